package cli

import (
	"context"
	"fmt"
	"io"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"wiselantern/client"
	"wiselantern/core/definition"
)

func (a *app) workflowsCommand() *cobra.Command {
	versions, use := false, 0
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
				if versions || use != 0 {
					return &usageError{fmt.Errorf("--versions and --use want the NAME of a workflow")}
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
			}
			w, err := service.Workflow(c.Context(), args[0])
			if err != nil {
				return err
			}
			return a.print(w, func() error { a.workflow(w); return nil })
		},
	}
	c.Flags().BoolVar(&versions, "versions", false, "list its versions, newest first")
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
			rows = append(rows, []string{t.Name, t.Kind, orDash(afterInWords(t)), t.About})
		}
		p.table(a.out, []string{"task", "kind", "after", "about"}, rows)
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

func (a *app) showCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "show RUN",
		Short: "Show one run with its tasks",
		Long:  "Show a run, NAME:NUMBER, with the state of each task and what went wrong. NAME alone is its newest run.",
		Example: `  lantern show gauge-hourly:412
  lantern show gauge-hourly
  lantern show gauge-hourly:412 -o json`,
		Args:              cobra.ExactArgs(1),
		ValidArgsFunction: a.completeRuns,
		RunE: func(c *cobra.Command, args []string) error {
			service, err := a.client()
			if err != nil {
				return err
			}
			run, err := service.Run(c.Context(), args[0])
			if err != nil {
				return err
			}
			return a.print(run, func() error {
				fmt.Fprintln(a.out, runPicture(painter(a.out), run))
				return nil
			})
		},
	}
}

// runPicture is a run as show and watch draw it.
func runPicture(p paint, r client.Run) string {
	var out strings.Builder
	fmt.Fprintf(&out, "%s  %s  %s\n", p.strong(r.ID), p.state(r.State), p.dim(runInWords(r)))
	if r.Window != nil {
		fmt.Fprintf(&out, "%s %s\n", p.dim("window"), span(r.Window))
	}
	var params []string
	for _, name := range sortedNames(r.Params) {
		params = append(params, name+"="+definition.Values{}.Text(r.Params[name]))
	}
	if params != nil {
		fmt.Fprintf(&out, "%s %s\n", p.dim("params"), strings.Join(params, "  "))
	}
	fmt.Fprintf(&out, "%s  %s\n\n", p.dim("tasks "), p.counts(r.Counts))
	var rows [][]string
	for _, t := range r.Tasks {
		attempts := "–"
		if len(t.Attempts) > 0 {
			attempts = fmt.Sprint(len(t.Attempts))
		}
		rows = append(rows, []string{t.Name, p.state(t.State), attempts, when(t.Started), took(t.Started, t.Ended), taskNote(t)})
	}
	p.table(&out, []string{"task", "state", "attempts", "started", "took", "note"}, rows)
	return strings.TrimRight(out.String(), "\n")
}

func runInWords(r client.Run) string {
	text := fmt.Sprintf("%s, version %d", r.Cause, r.Version)
	if r.CausedBy != "" {
		text = fmt.Sprintf("%s (%s), version %d", r.Cause, r.CausedBy, r.Version)
	}
	if r.Started != nil {
		text += ", started " + when(r.Started) + ", took " + took(r.Started, r.Ended)
	}
	return text
}

// taskNote is what a person should know of a task beside its state.
func taskNote(t client.Task) string {
	switch {
	case t.Stopping:
		return "is being stopped"
	case t.State == "cooling" && t.Wakes != nil:
		return fmt.Sprintf("%s; again in %s", t.Reason, length(time.Until(*t.Wakes)))
	case t.Waits != "":
		return t.Waits
	case t.Reason != "":
		return t.Reason
	case len(t.Attempts) > 1 && t.State == "succeeded":
		return "before: " + t.Attempts[len(t.Attempts)-2].Error
	}
	return ""
}

func (a *app) logsCommand() *cobra.Command {
	var o logOptions
	c := &cobra.Command{
		Use:   "logs RUN TASK",
		Short: "Print what a task printed",
		Long: `Print what an attempt of a task printed: standard output to standard output,
standard error to standard error. Without --attempt it is the newest. With
--follow it goes on as the log grows, over further attempts, until the task ends.`,
		Example: `  lantern logs gauge-hourly:412 split
  lantern logs gauge-hourly split -f
  lantern logs gauge-hourly:412 collect --attempt 1 --times
  lantern logs gauge-hourly:412 load --raw > load.log`,
		Args:              cobra.ExactArgs(2),
		ValidArgsFunction: a.completeTasks,
		RunE: func(c *cobra.Command, args []string) error {
			service, err := a.client()
			if err != nil {
				return err
			}
			o.run, o.task = args[0], args[1]
			return a.logs(c.Context(), service, o)
		},
	}
	c.Flags().BoolVarP(&o.follow, "follow", "f", false, "go on as the log grows")
	c.Flags().IntVar(&o.attempt, "attempt", 0, "that attempt, counted from 1")
	c.Flags().BoolVar(&o.times, "times", false, "put the moment before each line")
	c.Flags().BoolVar(&o.raw, "raw", false, "byte for byte, both streams to standard output")
	c.Flags().IntVar(&o.last, "last", 0, "only the last lines, up to 10000")
	return c
}

type logOptions struct {
	run, task          string
	follow, times, raw bool
	attempt, last      int
}

func (a *app) logs(ctx context.Context, service *client.Client, o logOptions) error {
	if o.raw {
		body, err := service.RawLog(ctx, o.run, o.task, o.attempt)
		if err != nil {
			return err
		}
		defer body.Close()
		_, err = io.Copy(a.out, body)
		return err
	}
	// Pin what is followed: a newer run or attempt is another log.
	run, err := service.Run(ctx, o.run)
	if err != nil {
		return err
	}
	o.run = run.ID
	from := 0
	if o.last > 0 {
		page, err := service.LastLines(ctx, o.run, o.task, o.attempt, min(o.last, 10000))
		if err != nil {
			return err
		}
		a.lines(page.Lines, o.times)
		from = page.Total
	}
	if !o.follow {
		for o.last == 0 {
			page, err := service.Lines(ctx, o.run, o.task, o.attempt, from)
			if err != nil {
				return err
			}
			if len(page.Lines) == 0 {
				break
			}
			a.lines(page.Lines, o.times)
			from += len(page.Lines)
		}
		return nil
	}
	return a.followLogs(ctx, service, o, from)
}

// followLogs follows the attempts of a task, one after the other.
func (a *app) followLogs(ctx context.Context, service *client.Client, o logOptions, from int) error {
	only := o.attempt > 0
	attempt := max(1, o.attempt)
	if !only {
		if t, _, err := findTask(ctx, service, o); err != nil {
			return err
		} else if len(t.Attempts) > 0 {
			attempt = len(t.Attempts)
		}
	}
	for {
		if err := a.untilAttempt(ctx, service, o, attempt); err != nil {
			return err
		}
		t, _, err := findTask(ctx, service, o)
		if err != nil || len(t.Attempts) < attempt {
			return err // it settled without that attempt
		}
		err = service.FollowLog(ctx, o.run, o.task, attempt, from, func(lines []client.Line) error {
			a.lines(lines, o.times)
			return nil
		})
		if err != nil || only {
			return err
		}
		attempt, from = attempt+1, 0
		if t, settled, err := findTask(ctx, service, o); err != nil || settled && len(t.Attempts) < attempt {
			return err
		}
		fmt.Fprintln(a.err, painter(a.err).dim(fmt.Sprintf("attempt %d has ended; waiting for attempt %d", attempt-1, attempt)))
	}
}

// untilAttempt waits until a task has that attempt or has settled.
func (a *app) untilAttempt(ctx context.Context, service *client.Client, o logOptions, attempt int) error {
	ready := func() (bool, error) {
		t, settled, err := findTask(ctx, service, o)
		return settled || len(t.Attempts) >= attempt, err
	}
	if ok, err := ready(); ok || err != nil {
		return err
	}
	return service.Follow(ctx, o.run, 0, func(client.Change) error {
		ok, err := ready()
		if ok && err == nil {
			return io.EOF
		}
		return err
	})
}

func findTask(ctx context.Context, service *client.Client, o logOptions) (t client.Task, settled bool, err error) {
	run, err := service.Run(ctx, o.run)
	if err != nil {
		return t, false, err
	}
	for _, t := range run.Tasks {
		if t.Name == o.task {
			return t, t.Ended != nil, nil
		}
	}
	// The service knows the nearest name.
	_, err = service.Lines(ctx, o.run, o.task, 0, 0)
	return t, false, err
}

func (a *app) lines(lines []client.Line, times bool) {
	for _, l := range lines {
		out := a.out
		if l.Stream == "err" {
			out = a.err
		}
		text := []byte(l.Text)
		if l.Bytes != nil {
			text = l.Bytes
		}
		if times {
			fmt.Fprint(out, painter(out).dim(l.At.Local().Format("15:04:05.000")), " ")
		}
		if !l.Joined {
			text = append(text, '\n')
		}
		_, _ = out.Write(text) // a reader that is gone ends the command by SIGPIPE
	}
}
