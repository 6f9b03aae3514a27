package definition

import (
	"fmt"
	"slices"
	"strings"
)

// Link is an arrow between workflows and what they have in common: From leads to
// To. A node is written as workflow NAME, data set NAME, event TYPE or file GLOB.
type Link struct {
	From string `json:"from"`
	To   string `json:"to"`
	Kind string `json:"kind"`           // starts, waits, updates, asks
	Task string `json:"task,omitempty"` // of the workflow, that starts, waits or updates
}

// The kinds of nodes of a link, which its ends begin with.
const (
	WorkflowNode = "workflow "
	DatasetNode  = "data set "
	EventNode    = "event "
	FileNode     = "file "
)

var nodeOf = map[string]string{AwaitEvent: EventNode, AwaitFile: FileNode, AwaitDataset: DatasetNode, AwaitWorkflow: WorkflowNode}

// Links are the arrows that a workflow has to others and from them.
func (w *Workflow) Links() (links []Link) {
	links = w.arrows()
	if w.OnlyIf != "" {
		if c, err := w.Compile(); err == nil {
			for _, name := range c.OnlyIf.News {
				links = append(links, Link{DatasetNode + name, WorkflowNode + w.Name, "asks", ""})
			}
		}
	}
	return links
}

// arrows are the links that start something, or keep something waiting.
func (w *Workflow) arrows() (links []Link) {
	self := WorkflowNode + w.Name
	for _, o := range w.Outside {
		for _, of := range o.Of {
			links = append(links, Link{nodeOf[o.Kind] + of, self, "starts", ""})
		}
	}
	for _, t := range w.Tasks {
		if t.Start != nil {
			links = append(links, Link{self, WorkflowNode + t.Start.Workflow, "starts", t.Name})
		}
		if t.Wait != nil {
			for _, a := range t.Wait.For {
				for _, of := range a.Of {
					if node := nodeOf[a.Kind]; node != "" {
						links = append(links, Link{node + of, self, "waits", t.Name})
					}
				}
			}
		}
		for _, d := range t.Updates {
			links = append(links, Link{self, DatasetNode + d.Name, "updates", t.Name})
		}
	}
	return links
}

// Circle are the names of workflows, and of data sets, that would start each other
// for ever, or wait for each other for ever; nil if there is no such circle.
func Circle(all []*Workflow) (way []string, waits bool) {
	starts, needs := map[string][]string{}, map[string][]string{}
	for _, w := range all {
		self := WorkflowNode + w.Name
		updated := map[string]bool{}
		for _, t := range w.Tasks {
			for _, d := range t.Updates {
				updated[DatasetNode+d.Name] = true
			}
			if t.Start != nil && t.Start.Wait {
				needs[self] = append(needs[self], WorkflowNode+t.Start.Workflow)
			}
		}
		for _, l := range w.arrows() {
			switch {
			case l.Kind == "starts":
				starts[l.From] = append(starts[l.From], l.To)
			case l.Kind == "updates":
				starts[l.From] = append(starts[l.From], l.To)
				needs[l.To] = append(needs[l.To], l.From)
			case l.Kind == "waits" && !updated[l.From]: // else for what its run before has made
				needs[l.To] = append(needs[l.To], l.From)
			}
		}
	}
	if way := circleIn(starts); way != nil {
		return way, false
	}
	return circleIn(needs), true
}

// circleIn is a circle of a graph, from the first of its nodes by name.
func circleIn(next map[string][]string) []string {
	const open, done = 1, 2
	state := map[string]int{}
	var way []string
	var walk func(at string) []string
	walk = func(at string) []string {
		if state[at] == open {
			circle := slices.Clone(way[slices.Index(way, at):])
			first := max(0, slices.IndexFunc(circle, func(node string) bool { return strings.HasPrefix(node, WorkflowNode) }))
			circle = append(circle[first:], circle[:first]...)
			return append(circle, circle[0])
		}
		if state[at] == done {
			return nil
		}
		state[at] = open
		way = append(way, at)
		for _, to := range next[at] {
			if circle := walk(to); circle != nil {
				return circle
			}
		}
		way = way[:len(way)-1]
		state[at] = done
		return nil
	}
	for _, from := range sortedKeys(next) {
		if circle := walk(from); circle != nil {
			return circle
		}
	}
	return nil
}

// circleMessage says what is wrong with a circle, and what to do.
func circleMessage(way []string, waits bool) (message, fix string) {
	for i := range way {
		way[i] = strings.TrimPrefix(way[i], WorkflowNode)
	}
	if waits {
		return "workflows would wait for each other for ever: " + strings.Join(way, " waits for "), "take out one of these waits"
	}
	return "workflows would start each other for ever: " + strings.Join(way, " starts "), "take out one of these starts"
}

// LeansOn tells whether the workflow waits for one of these, starts it, or is started
// by its end.
func (w *Workflow) LeansOn(names map[string]bool) bool {
	return slices.ContainsFunc(w.arrows(), func(l Link) bool {
		from, isFrom := strings.CutPrefix(l.From, WorkflowNode)
		to, isTo := strings.CutPrefix(l.To, WorkflowNode)
		return isFrom && from != w.Name && names[from] || isTo && to != w.Name && names[to]
	})
}

// linkAt is where a wait or a start names another workflow.
type linkAt struct {
	from    string // the workflow that it stands in; known when it has been read
	task    string // that waits, or
	start   string // the start
	awaited *Awaited
	at      *node
}

// checkLinks finds, among the workflows of a project, waits and starts that name
// another one wrongly. A workflow that is not of the project may be known to the
// service.
func (r *reader) checkLinks(workflows []*Workflow) {
	for _, x := range r.links {
		for _, to := range workflows {
			if len(x.awaited.Of) == 1 && to.Name == x.awaited.Of[0] {
				if m := x.awaited.mistake(to); m != nil {
					r.problem(x.at, m.fix, "%s, %s", x.what(), m.message)
				}
			}
		}
	}
}

func (x linkAt) what() string {
	if x.task != "" {
		return fmt.Sprintf("task %q waits for %s", x.task, x.awaited.Of[0])
	}
	return fmt.Sprintf("%s is for the end of %s", x.start, x.awaited.Of[0])
}

// mistake is what is wrong with awaiting that workflow.
func (a *Awaited) mistake(to *Workflow) *innerMistake {
	if a.Window == "covering" && len(to.Starts) == 0 {
		return &innerMistake{message: "which has no time rule, so nobody knows which of its windows lie in that of a run", fix: "write window: same or window: newest"}
	}
	if a.Task == "" {
		return nil
	}
	var names []string
	for _, t := range to.Tasks {
		if group, isGroup := strings.CutSuffix(a.Task, "/*"); t.Name == a.Task || isGroup && strings.HasPrefix(t.Name, group+"/") {
			return nil
		}
		names = append(names, t.Name)
	}
	fix := "its tasks are: " + listed(names)
	if near := Nearest(a.Task, names); near != "" {
		fix = fmt.Sprintf("did you mean %q?", near)
	}
	return &innerMistake{message: fmt.Sprintf("which has no task %q", a.Task), fix: fix}
}

// LinkMistake tells what is wrong with the workflows that a workflow waits for and
// is started by, nil if nothing is. lookup is the workflow of a name, nil if there
// is none.
func LinkMistake(w *Workflow, lookup func(string) *Workflow) error {
	wrong := func(what string, a *Awaited) error {
		to := lookup(a.Of[0])
		if to == nil {
			return fmt.Errorf("%s %s the workflow %q, which does not exist; apply that one first, or together with it", w.Name, what, a.Of[0])
		}
		if m := a.mistake(to); m != nil {
			return fmt.Errorf("%s %s %s, %s; %s", w.Name, what, to.Name, m.message, m.fix)
		}
		return nil
	}
	for i := range w.Outside {
		if o := &w.Outside[i]; o.Kind == AwaitWorkflow {
			if err := wrong("starts after", &o.Awaited); err != nil {
				return err
			}
		}
	}
	for _, t := range w.Tasks {
		if t.Wait == nil {
			continue
		}
		for i := range t.Wait.For {
			if a := &t.Wait.For[i]; a.Kind == AwaitWorkflow {
				if err := wrong("waits, in task "+t.Name+", for", a); err != nil {
					return err
				}
			}
		}
	}
	return nil
}

// CircleMistake tells of workflows that would start each other, or wait for each
// other, for ever; nil if there are none.
func CircleMistake(all []*Workflow) error {
	way, waits := Circle(all)
	if way == nil {
		return nil
	}
	message, fix := circleMessage(way, waits)
	return fmt.Errorf("%s; %s", message, fix)
}
