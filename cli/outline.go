package cli

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"wiselantern/core/calendar"
	"wiselantern/core/definition"
)

// outlined is a workflow as outline tells it.
type outlined struct {
	Workflow     string     `json:"workflow"`
	Waves        [][]string `json:"waves"`
	LongestChain []string   `json:"longest_chain"`
	Next         []upcoming `json:"next"`
}

// upcoming is one due moment with its window.
type upcoming struct {
	Rule   string          `json:"rule"`
	Due    time.Time       `json:"due"`
	Window calendar.Window `json:"window"`
}

func (a *app) outlineCommand() *cobra.Command {
	count, whole := 3, false
	c := &cobra.Command{
		Use:   "outline [PATH…]",
		Args:  cobra.ArbitraryArgs,
		Short: "Show the waves of a graph, its longest chain and its next windows",
		Long: `Show what comes of workflow files, offline: the tasks in waves (those of one wave may
run beside each other), the longest chain, and the next windows with when they are
due, in the zone of their rule. With --all, instead, the arrows between workflows, data
sets, events and files: of these files, or without PATH of all that the service has.`,
		Example: `  lantern outline workflows/gauge-hourly.yaml
  lantern outline . --next 10
  lantern outline . -o json
  lantern outline --all`,
		RunE: func(c *cobra.Command, args []string) error {
			if len(args) == 0 && !whole {
				return &usageError{fmt.Errorf("name a file or a folder, or say --all")}
			}
			if len(args) == 0 {
				service, err := a.client()
				if err != nil {
					return err
				}
				links, err := service.Links(c.Context())
				if err != nil {
					return err
				}
				return a.outlineAll(links)
			}
			if count < 0 || count > 1000 {
				return &usageError{fmt.Errorf("--next %d: write a number from 0 to 1000", count)}
			}
			s, err := a.collect(args)
			if err != nil {
				return err
			}
			project, problems := s.load("")
			if problems != nil {
				return problems
			}
			if whole {
				var links []definition.Link
				for _, w := range project.Workflows {
					links = append(links, w.Links()...)
				}
				return a.outlineAll(links)
			}
			var all []outlined
			for _, w := range project.Workflows {
				one, err := outline(w, count, time.Now())
				if err != nil {
					return err
				}
				all = append(all, one)
			}
			return a.print(all, func() error {
				for i, w := range project.Workflows {
					if i > 0 {
						fmt.Fprintln(a.out)
					}
					a.outline(w, all[i])
				}
				return nil
			})
		},
	}
	c.Flags().BoolVar(&whole, "all", false, "the arrows between workflows, data sets, events and files")
	c.Flags().IntVar(&count, "next", count, "how many windows of each rule")
	return c
}

func outline(w *definition.Workflow, count int, now time.Time) (outlined, error) {
	o := outlined{Workflow: w.Name, LongestChain: w.LongestChain(), Next: []upcoming{}}
	for _, wave := range w.Waves() {
		var names []string
		for _, t := range wave {
			names = append(names, t.Name)
		}
		o.Waves = append(o.Waves, names)
	}
	schedules, err := w.Schedules()
	if err != nil {
		return o, err
	}
	for _, s := range schedules {
		left := count
		for due := s.After(now); due != nil && left > 0; due = s.After(due[0].At) {
			for _, one := range due {
				o.Next = append(o.Next, upcoming{s.Starts[one.Rule].String(), one.At, one.Window})
				left--
			}
		}
	}
	return o, nil
}

func (a *app) outline(w *definition.Workflow, o outlined) {
	p := painter(a.out)
	fmt.Fprintf(a.out, "%s  %s\n", p.strong(w.Name), p.dim(fmt.Sprintf("%s in %s", plural(len(w.Tasks), "task"), plural(len(o.Waves), "wave"))))
	fmt.Fprintf(a.out, "%s %s\n\n", p.dim("longest chain"), strings.Join(o.LongestChain, " → "))
	var rows [][]string
	for i, wave := range w.Waves() {
		for j, t := range wave {
			number := ""
			if j == 0 {
				number = fmt.Sprint(i + 1)
			}
			rows = append(rows, []string{p.dim(number), t.Name, p.dim(t.Kind), afterInWords(t), p.dim(howInWords(t))})
		}
	}
	p.table(a.out, []string{"wave", "task", "kind", "after", "how"}, rows)
	for _, res := range w.Resources {
		fmt.Fprintf(a.out, "\n%s %s  opened for %s%s\n", p.dim("resource"), res.Name, strings.Join(usersOf(w, res.Name), ", "), prefixed(", within ", res.Within))
	}
	if len(o.Next)+len(w.Outside) > 0 {
		fmt.Fprintln(a.out)
	}
	for _, start := range w.Outside {
		fmt.Fprintf(a.out, "%s %s\n", p.dim("starts:"), start)
	}
	for _, next := range o.Next {
		fmt.Fprintf(a.out, "%s %s\n", p.dim(next.Rule+":"), windowInWords(next))
	}
}

// usersOf are the tasks and the resources that are within a resource.
func usersOf(w *definition.Workflow, resource string) (names []string) {
	for _, t := range w.Tasks {
		if slices.Contains(t.Within, resource) {
			names = append(names, t.Name)
		}
	}
	for _, res := range w.Resources {
		if slices.Contains(res.Within, resource) {
			names = append(names, res.Name)
		}
	}
	return names
}

func prefixed(prefix string, names []string) string {
	if names == nil {
		return ""
	}
	return prefix + strings.Join(names, ", ")
}

// howInWords is what else decides whether a task runs, how often and where.
func howInWords(t definition.Task) string {
	var words []string
	if t.OnlyIf != "" {
		words = append(words, "only if "+t.OnlyIf)
	}
	if t.ForEach != "" {
		words = append(words, fmt.Sprintf("for each of %s, %d at once", t.ForEach, t.AtOnce))
	}
	if t.Start != nil {
		words = append(words, "starts "+t.Start.Workflow)
	}
	if t.Wait != nil {
		words = append(words, "waits for "+t.Wait.Words())
	}
	if t.Approve != nil {
		words = append(words, "asks: "+t.Approve.Ask)
	}
	for _, d := range t.Updates {
		words = append(words, "updates "+d.Name)
	}
	if t.Within != nil {
		words = append(words, "within "+strings.Join(t.Within, ", "))
	}
	for _, rule := range t.Route {
		to := strings.Join(rule.To, ", ")
		if rule.If == "" {
			words = append(words, "else "+to)
		} else {
			words = append(words, to+" if "+rule.If)
		}
	}
	return strings.Join(words, "; ")
}

// windowInWords tells a window and when it is due in the zone of the rule, and
// in the reader's where the two differ.
func windowInWords(u upcoming) string {
	const layout = "Mon 2 Jan 15:04"
	text := "due " + u.Due.Format(layout+" MST")
	if !u.Window.End.IsZero() {
		text = fmt.Sprintf("covers %s to %s; %s", u.Window.Start.Format(layout), u.Window.End.Format(layout), text)
	}
	if here := u.Due.Local(); here.Format(layout) != u.Due.Format(layout) {
		text += here.Format(" (here Mon 15:04)")
	}
	return text
}

func (a *app) schemaCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "schema",
		Short: "Print the JSON Schema of a workflow, for editors",
		Long: `Print the JSON Schema (2020-12) of a workflow, for editors that complete and check
YAML by a schema. lantern check finds more.`,
		Example: `  lantern schema > workflow.schema.json`,
		RunE: func(*cobra.Command, []string) error {
			_, err := fmt.Fprint(a.out, definition.Schema)
			return err
		},
	}
}
