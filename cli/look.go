package cli

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"wiselantern/client"
	"wiselantern/core/definition"
)

func (a *app) workflowsCommand() *cobra.Command {
	versions, decisions, use := false, false, 0
	c := &cobra.Command{
		Use:   "workflows [NAME]",
		Short: "List the workflows, or show one",
		Long: `List the workflows, or show one: what starts it, its params and its tasks. With
--versions, list what was applied; with --use, go back to one of these, by making a
new version that is the same. Runs stay on the version that they began with.`,
		Example: `  lantern workflows
  lantern workflows gauge-hourly
  lantern workflows gauge-hourly --versions
  lantern workflows gauge-hourly --use 3
  lantern workflows -o json`,
		Args:              cobra.MaximumNArgs(1),
		ValidArgsFunction: a.completeWorkflows,
		RunE: func(c *cobra.Command, args []string) error {
			service, err := a.client()
			if err != nil {
				return err
			}
			if len(args) == 0 {
				if versions || decisions || use != 0 {
					return &usageError{fmt.Errorf("--versions, --decisions and --use want the NAME of a workflow")}
				}
				list, err := service.Workflows(c.Context())
				if err != nil {
					return err
				}
				return a.print(client.Workflows{Workflows: list}, func() error { a.workflowTable(list); return nil })
			}
			switch {
			case use != 0:
				change, err := service.UseVersion(c.Context(), args[0], use)
				if err != nil {
					return err
				}
				return a.print(change, func() error {
					_, err := fmt.Fprintln(a.out, changeInWords(change, false))
					return err
				})
			case versions:
				list, err := service.Versions(c.Context(), args[0])
				if err != nil {
					return err
				}
				return a.print(client.Versions{Versions: list}, func() error { a.versionTable(list); return nil })
			case decisions:
				list, err := service.Decisions(c.Context(), args[0])
				if err != nil {
					return err
				}
				return a.print(client.Decisions{Decisions: list}, func() error { a.decisions(list, len(list)); return nil })
			}
			w, err := service.Workflow(c.Context(), args[0])
			if err != nil {
				return err
			}
			list, err := service.Decisions(c.Context(), args[0])
			if err != nil {
				return err
			}
			return a.print(w, func() error {
				a.workflow(w)
				a.decisions(list, mostDecisions)
				return nil
			})
		},
	}
	c.Flags().BoolVar(&versions, "versions", false, "list its versions, newest first")
	c.Flags().BoolVar(&decisions, "decisions", false, "list the due windows that got no run, and why")
	c.Flags().IntVar(&use, "use", 0, "go back to that version")
	return c
}

func (a *app) versionTable(list []client.Version) {
	p := painter(a.out)
	var rows [][]string
	for _, v := range list {
		mark := ""
		if v.Current {
			mark = "current"
		}
		rows = append(rows, []string{fmt.Sprint(v.Number), when(&v.Applied), v.AppliedBy, orDash(v.File), fmt.Sprintf("%.12s", v.Hash), orDash(fmt.Sprintf("%.12s", v.Parcel)), mark})
	}
	p.table(a.out, []string{"version", "applied", "by", "file", "definition", "code", ""}, rows)
}

func (a *app) workflowTable(list []client.Workflow) {
	if len(list) == 0 {
		fmt.Fprintln(a.out, "There are no workflows yet. Write one and apply it: lantern apply PATH")
		return
	}
	p := painter(a.out)
	var rows [][]string
	for _, w := range list {
		next := when(w.Next)
		if w.Paused != nil {
			next = "paused by " + w.Paused.By
		}
		last := "–"
		if len(w.Recent) > 0 {
			last = p.state(w.Recent[0].State)
		}
		var marks strings.Builder
		for i := min(len(w.Recent), 12) - 1; i >= 0; i-- {
			marks.WriteString(p.mark(w.Recent[i].State, glyph(w.Recent[i].State)))
		}
		rows = append(rows, []string{p.strong(w.Name), orDash(w.Owner), orDash(strings.Join(w.Starts, "; ")), next, last, marks.String()})
	}
	p.table(a.out, []string{"workflow", "owner", "starts", "next due", "newest run", "runs, newest last"}, rows)
}

func (a *app) workflow(w client.Workflow) {
	p := painter(a.out)
	fmt.Fprintf(a.out, "%s  %s\n", p.strong(w.Name), p.dim(fmt.Sprintf("version %d, applied %s by %s", w.Version, when(&w.Applied), w.AppliedBy)))
	if w.About != "" {
		fmt.Fprintln(a.out, w.About)
	}
	fmt.Fprintln(a.out)
	fact := func(name, value string) {
		if value != "" {
			fmt.Fprintf(a.out, "%s %s\n", p.dim(fmt.Sprintf("%-9s", name)), value)
		}
	}
	fact("owner", w.Owner)
	fact("labels", strings.Join(w.Labels, ", "))
	fact("starts", strings.Join(w.Starts, "; "))
	if w.Next != nil {
		fact("next due", when(w.Next))
	}
	if w.Paused != nil {
		fact("paused", when(&w.Paused.Since)+" by "+w.Paused.By)
	}
	if w.Definition != nil {
		for _, param := range w.Definition.Params {
			fact("param", paramInWords(param))
		}
		fmt.Fprintln(a.out)
		var rows [][]string
		for _, t := range w.Definition.Tasks {
			rows = append(rows, []string{t.Name, t.Kind, orDash(afterInWords(t)), orDash(t.About)})
		}
		p.table(a.out, []string{"task", "kind", "after", "about"}, rows)
		for _, res := range w.Definition.Resources {
			fmt.Fprintf(a.out, "\n%s %s  opened for %s\n", p.dim("resource"), res.Name, strings.Join(usersOf(w.Definition, res.Name), ", "))
		}
	}
}

// mostDecisions is how many decisions are told with a workflow.
const mostDecisions = 5

// decisions prints due windows that got no run, the newest first.
func (a *app) decisions(list []client.Decision, most int) {
	if len(list) == 0 {
		if most == 0 {
			fmt.Fprintln(a.out, "Each due window got its run.")
		}
		return
	}
	p := painter(a.out)
	fmt.Fprintf(a.out, "\n%s\n", p.dim("due windows without a run, newest first"))
	for _, d := range list[:min(most, len(list))] {
		text := plural(d.Count, "window")
		if d.Window != nil {
			text += ", " + span(d.Window)
		}
		fmt.Fprintf(a.out, "  %s: %s\n", text, d.Reason)
	}
	if len(list) > most {
		fmt.Fprintf(a.out, "  %s\n", p.dim(fmt.Sprintf("and %d more; --decisions lists them", len(list)-most)))
	}
}

func afterInWords(t definition.Task) string {
	words := make([]string, len(t.After))
	for i, d := range t.After {
		words[i] = d.Task
		if expect := d.ExpectWord(); expect != "succeeded" {
			words[i] += ": " + expect
		}
	}
	text := strings.Join(words, ", ")
	switch t.Join.Kind {
	case "any", "first":
		text = t.Join.Kind + " of " + text
	case "count":
		text = fmt.Sprintf("%d of %s", t.Join.Count, text)
	}
	return text
}

func paramInWords(p definition.Param) string {
	text := p.Name + ": " + p.Type
	if p.Of != "" {
		text += " of " + p.Of
	}
	if p.Choice != nil {
		text += " of " + strings.Join(p.Choice, ", ")
	}
	if p.Secret {
		text += ", secret"
	}
	if p.Required {
		return text + ", required"
	}
	if p.Default != nil {
		text += ", by default " + definition.Values{}.Text(p.Default)
	}
	return text
}

func (a *app) runsCommand() *cobra.Command {
	var f client.RunsFilter
	c := &cobra.Command{
		Use:   "runs [WORKFLOW]",
		Short: "List runs, newest first",
		Example: `  lantern runs
  lantern runs gauge-hourly --state failed,stopped
  lantern runs gauge-hourly --cause backfill --from 2026-03-01 --until 2026-03-08
  lantern runs gauge-hourly --param basin=lower --error "no such file"
  lantern runs --limit 200 -o json`,
		Args:              cobra.MaximumNArgs(1),
		ValidArgsFunction: a.completeWorkflows,
		RunE: func(c *cobra.Command, args []string) error {
			service, err := a.client()
			if err != nil {
				return err
			}
			if len(args) == 1 {
				f.Workflow = args[0]
			}
			if f.Limit < 1 || f.Limit > 500 {
				return &usageError{fmt.Errorf("--limit %d: write a number from 1 to 500", f.Limit)}
			}
			page, err := service.Runs(c.Context(), f)
			if err != nil {
				return err
			}
			return a.print(page, func() error { a.runTable(page); return nil })
		},
	}
	c.Flags().StringSliceVar(&f.States, "state", nil, "only in these states: queued, running, succeeded, failed, stopped")
	c.Flags().StringVar(&f.Cause, "cause", "", "only with this cause: schedule, event, backfill, person, workflow")
	c.Flags().StringVar(&f.From, "from", "", "only for windows that end after this date (UTC) or moment")
	c.Flags().StringVar(&f.Until, "until", "", "only for windows that begin before this date (UTC) or moment")
	c.Flags().StringVar(&f.EndedFrom, "ended-from", "", "only that ended at this date (UTC) or moment, or later")
	c.Flags().StringVar(&f.EndedUntil, "ended-until", "", "only that ended before this date (UTC) or moment")
	c.Flags().IntVar(&f.Version, "version", 0, "only of this version of the definition")
	c.Flags().StringVar(&f.Param, "param", "", "only with this value of a param, NAME=VALUE")
	c.Flags().StringVar(&f.Error, "error", "", "only with this text in the error of an attempt")
	c.Flags().IntVar(&f.Limit, "limit", 30, "how many, up to 500")
	c.Flags().StringVar(&f.Before, "before", "", "the next page, as the one before named it")
	return c
}

func (a *app) runTable(page client.Runs) {
	if len(page.Runs) == 0 {
		fmt.Fprintln(a.out, "There are no such runs yet. Start one: lantern start WORKFLOW")
		return
	}
	p := painter(a.out)
	var rows [][]string
	for _, r := range page.Runs {
		rows = append(rows, []string{p.strong(r.ID), p.state(r.State), span(r.Window), r.Cause, when(r.Started), took(r.Started, r.Ended), p.counts(r.Counts)})
	}
	p.table(a.out, []string{"run", "state", "window", "cause", "started", "took", "tasks"}, rows)
	if page.Next != "" {
		fmt.Fprintln(a.out, p.dim("There are more: --before "+page.Next))
	}
}
