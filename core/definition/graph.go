package definition

import (
	"fmt"
	"slices"
	"strings"
)

// graph resolves what each task comes after and refuses circles.
func (r *reader) graph(w *Workflow, places map[string]*node, edges map[string][]dependency) {
	var names []string // in the order of the file
	for _, task := range w.Tasks {
		names = append(names, task.Name)
	}
	for i := range w.Tasks {
		task := &w.Tasks[i]
		for _, d := range edges[task.Name] {
			r.resolve(task, d, names)
		}
		if task.Join.Kind == "count" && task.Join.Count > len(task.After) && len(task.After) > 0 {
			r.problem(places[task.Name], fmt.Sprintf("write a number up to %d", len(task.After)), "task %q waits for %d, and comes after only %d", task.Name, task.Join.Count, len(task.After))
		}
	}
	r.checkResources(w)
	defer r.expressions(w)
	if circle := findCircle(w.Tasks); circle != nil {
		first := circle[0]
		at := places[first]
		for _, d := range edges[first] {
			if slices.Contains(members(d.name, names), circle[1]) {
				at = d.at
			}
		}
		r.problem(at, "take out one of these edges", "tasks come after each other in a circle: %s", strings.Join(circle, " after "))
	}
}

// resolve adds the tasks that a dependency stands for.
func (r *reader) resolve(task *Task, d dependency, names []string) {
	base, isPrevious := strings.CutSuffix(d.name, previousSuffix)
	found := members(base, names)
	if isPrevious && len(found) > 0 {
		r.previousTasks(task, d, found)
		return
	}
	switch {
	case slices.Contains(found, task.Name):
		fix := "take it out"
		if d.name != task.Name {
			fix = "name the others one by one, or move it out of the group"
		}
		r.problem(d.at, fix, "task %q comes after itself", task.Name)
		return
	case found == nil && strings.HasSuffix(d.name, "/*"):
		r.problem(d.at, "the tasks are: "+listed(names), "task %q comes after the group %q, which has no task", task.Name, d.name)
		return
	case found == nil:
		fix := "the tasks are: " + listed(names)
		if near := Nearest(d.name, names); near != "" {
			fix = fmt.Sprintf("did you mean %q?", near)
		}
		r.problem(d.at, fix, "task %q comes after %q, which does not exist", task.Name, d.name)
		return
	}
	for _, name := range found {
		if slices.ContainsFunc(task.After, func(other Dependency) bool { return other.Task == name }) {
			r.problem(d.at, "take one out", "task %q names %q twice in after", task.Name, name)
			continue
		}
		task.After = append(task.After, Dependency{Task: name, Expect: d.expect})
	}
}

// previousTasks adds tasks in the run of the window before; a task may come after
// itself there.
func (r *reader) previousTasks(task *Task, d dependency, found []string) {
	for _, name := range found {
		name += previousSuffix
		if slices.ContainsFunc(task.After, func(other Dependency) bool { return other.Task == name }) {
			r.problem(d.at, "take one out", "task %q names %q twice in after", task.Name, name)
			continue
		}
		task.After = append(task.After, Dependency{Task: name, Expect: d.expect})
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
			to, within := index[after[top.next].Task]
			top.next++
			if !within {
				continue // in the run of the window before
			}
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
