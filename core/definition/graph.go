package definition

import (
	"fmt"
	"slices"
	"strings"
)

// graph resolves what each task comes after and refuses circles.
func (r *reader) graph(w *Workflow, places map[string]*node, edges map[string][]*node) {
	names := sortedKeys(places)
	for i := range w.Tasks {
		task := &w.Tasks[i]
		for _, at := range edges[task.Name] {
			name := at.text
			switch {
			case at.kind != scalar:
				continue
			case name == task.Name:
				r.problem(at, "take it out", "task %q comes after itself", name)
				continue
			case places[name] == nil:
				fix := "the tasks are: " + listed(names)
				if near := Nearest(name, names); near != "" {
					fix = fmt.Sprintf("did you mean %q?", near)
				}
				r.problem(at, fix, "task %q comes after %q, which does not exist", task.Name, name)
				continue
			case slices.Contains(task.After, name):
				r.problem(at, "take one out", "task %q names %q twice in after", task.Name, name)
				continue
			}
			task.After = append(task.After, name)
		}
	}
	if circle := findCircle(w.Tasks); circle != nil {
		first := circle[0]
		at := places[first]
		for _, n := range edges[first] {
			if n.text == circle[1] {
				at = n
			}
		}
		r.problem(at, "take out one of these edges", "tasks come after each other in a circle: %s", strings.Join(circle, " after "))
	}
}

func listed(names []string) string {
	if len(names) > 12 {
		return strings.Join(names[:12], ", ") + fmt.Sprintf(" and %d more", len(names)-12)
	}
	return strings.Join(names, ", ")
}

// findCircle is a circle of tasks, each coming after the next, with the first
// one repeated at the end; nil if there is none. The walk keeps its own stack,
// so that a chain of any length is no danger.
func findCircle(tasks []Task) []string {
	index := make(map[string]int, len(tasks))
	for i, t := range tasks {
		index[t.Name] = i
	}
	const fresh, open, done = 0, 1, 2
	state := make([]byte, len(tasks))
	type step struct{ task, next int }
	for start := range tasks {
		if state[start] != fresh {
			continue
		}
		path := []step{{start, 0}}
		state[start] = open
		for len(path) > 0 {
			top := &path[len(path)-1]
			after := tasks[top.task].After
			if top.next == len(after) {
				state[top.task] = done
				path = path[:len(path)-1]
				continue
			}
			to := index[after[top.next]]
			top.next++
			switch state[to] {
			case fresh:
				state[to] = open
				path = append(path, step{to, 0})
			case open:
				from := slices.IndexFunc(path, func(s step) bool { return s.task == to })
				var circle []string
				for _, s := range path[from:] {
					circle = append(circle, tasks[s.task].Name)
				}
				return append(circle, tasks[to].Name)
			}
		}
	}
	return nil
}
