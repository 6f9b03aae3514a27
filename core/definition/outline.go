package definition

// Waves are the tasks by how many others at least come one after the other
// before them: those of a wave may run beside each other. Tasks keep the order
// of the file.
func (w *Workflow) Waves() [][]Task {
	depth, _ := w.depths()
	var waves [][]Task
	for i, t := range w.Tasks {
		for len(waves) <= depth[i] {
			waves = append(waves, nil)
		}
		waves[depth[i]] = append(waves[depth[i]], t)
	}
	return waves
}

// LongestChain are the tasks of the longest way through the graph, first to
// last: no run has fewer steps than that.
func (w *Workflow) LongestChain() []string {
	depth, before := w.depths()
	last := -1
	for i := range w.Tasks {
		if last < 0 || depth[i] > depth[last] {
			last = i
		}
	}
	chain := make([]string, 0, len(w.Tasks))
	for ; last >= 0; last = before[last] {
		chain = append(chain, w.Tasks[last].Name)
	}
	for i, j := 0, len(chain)-1; i < j; i, j = i+1, j-1 {
		chain[i], chain[j] = chain[j], chain[i]
	}
	return chain
}

// depths tells of each task how many come before it on the longest way to it,
// and which is the last of these, -1 if there is none. The graph has no circle.
func (w *Workflow) depths() (depth, before []int) {
	index := make(map[string]int, len(w.Tasks))
	for i, t := range w.Tasks {
		index[t.Name] = i
	}
	next := make([][]int, len(w.Tasks))
	pending := make([]int, len(w.Tasks))
	depth, before = make([]int, len(w.Tasks)), make([]int, len(w.Tasks))
	var ready []int
	for i, t := range w.Tasks {
		before[i] = -1
		for _, d := range t.After {
			if from, within := index[d.Task]; within { // else in the run of the window before
				next[from] = append(next[from], i)
				pending[i]++
			}
		}
		if pending[i] == 0 {
			ready = append(ready, i)
		}
	}
	for len(ready) > 0 {
		from := ready[0]
		ready = ready[1:]
		for _, to := range next[from] {
			if depth[from]+1 > depth[to] {
				depth[to], before[to] = depth[from]+1, from
			}
			if pending[to]--; pending[to] == 0 {
				ready = append(ready, to)
			}
		}
	}
	return depth, before
}
