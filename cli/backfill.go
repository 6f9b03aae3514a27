package cli

import (
	"context"
	"fmt"
	"io"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"wiselantern/client"
)

func (a *app) backfillCommand() *cobra.Command {
	var r client.BackfillRequest
	var params []string
	follow := false
	c := &cobra.Command{
		Use:   "backfill WORKFLOW",
		Short: "Work through the windows of a past range",
		Long: `Make a run for each window of a past range, oldest first. A date stands for the
whole day, the first and the last included, in the zone of the workflow's time rule; of
moments the last is not included. Windows that have a run already are left out, unless
--only says otherwise. See first what it would do with --dry-run.

Runs that come by themselves go first. Without --at-once it has as many runs going as
the workflow lets, and takes its turn with them; with it, that many of its own go
beside all others.`,
		Example: `  lantern backfill gauge-hourly --from 2026-03-01 --to 2026-03-28 --dry-run
  lantern backfill gauge-hourly --from 2026-03-01 --to 2026-03-28 --only all --at-once 4 --follow
  lantern backfill basin-daily --from 2026-01-01 --to 2026-03-31 --on mon-fri --stop-after 3
  lantern backfill recalibrate -p station=G02 --from 2026-03-01 --to 2026-03-28 --every 1d --merge 7d`,
		Args:              cobra.ExactArgs(1),
		ValidArgsFunction: a.completeWorkflows,
		RunE: func(c *cobra.Command, args []string) error {
			if r.From == "" || r.To == "" {
				return &usageError{fmt.Errorf("say which range, as in --from 2026-03-01 --to 2026-03-28")}
			}
			for _, flag := range []struct{ name, value, one, two, three string }{{"only", r.Only, "missing", "failed", "all"}, {"order", r.Order, "oldest", "newest", ""}} {
				if v := flag.value; v != "" && v != flag.one && v != flag.two && v != flag.three {
					return &usageError{fmt.Errorf("--%s %s: write %s", flag.name, v, strings.TrimSuffix(strings.Join([]string{flag.one, flag.two, flag.three}, " or "), " or "))}
				}
			}
			service, err := a.client()
			if err != nil {
				return err
			}
			r.Workflow = args[0]
			if r.Texts, err = readParams(params); err != nil {
				return err
			}
			b, err := service.Backfill(c.Context(), r)
			if err != nil {
				return err
			}
			if !follow || r.DryRun {
				return a.print(b, func() error {
					a.backfillPreview(b)
					return nil
				})
			}
			return a.followBackfill(c.Context(), service, b.Number)
		},
	}
	f := c.Flags()
	f.StringVar(&r.From, "from", "", "a date, from its first moment, or a moment")
	f.StringVar(&r.To, "to", "", "a date, to its last moment, or a moment")
	f.StringVar(&r.Zone, "zone", "", "whose dates these are (default that of the time rule)")
	f.StringVar(&r.Every, "every", "", "windows of that length, for a workflow without a time rule")
	f.StringVar(&r.Only, "only", "", "which windows: missing (default), failed, all")
	f.StringVar(&r.Order, "order", "", "which first: oldest (default), newest")
	f.StringSliceVar(&r.Days, "on", nil, "only windows that begin on these days, as in mon-fri")
	f.StringSliceVar(&r.Months, "months", nil, "only windows that begin in these months, as in nov-feb")
	f.StringVar(&r.Merge, "merge", "", "make windows that follow each other one, up to that long")
	f.IntVar(&r.AtOnce, "at-once", 0, "runs of it that may go at once, beside all others")
	f.IntVar(&r.StopAfter, "stop-after", 0, "pause when so many runs did not succeed")
	f.StringArrayVarP(&params, "param", "p", nil, "a param, NAME=VALUE; may be given several times")
	f.StringSliceVar(&r.Tasks, "task", nil, "this task alone; may be given several times")
	f.BoolVar(&r.DryRun, "dry-run", false, "only tell what it would do")
	f.BoolVarP(&follow, "follow", "f", false, "follow it to its end; the exit code is 1 if it ends badly")
	return c
}

func (a *app) backfillPreview(b client.Backfill) {
	p := painter(a.out)
	fmt.Fprintf(a.out, "%s  %s to %s\n", p.strong(b.Workflow), inZone(b.From, b.Zone), inZone(b.Until, b.Zone))
	var parts []string
	for _, state := range []string{"missing", "failed", "running", "succeeded"} {
		if n := b.Windows[state]; n > 0 {
			parts = append(parts, fmt.Sprintf("%d %s", n, state))
		}
	}
	fmt.Fprintf(a.out, "windows: %s\n", strings.Join(parts, ", "))
	if b.Leaving > 0 {
		fmt.Fprintf(a.out, "%s are left to another backfill that is about to make them\n", plural(b.Leaving, "window"))
	}
	text := plural(b.Runs, "run")
	if b.Chosen != b.Runs {
		text += " for " + plural(b.Chosen, "window")
	}
	if b.AtOnce > 0 {
		text += fmt.Sprintf(", %d at once", b.AtOnce)
	}
	text += ", the " + b.Order + " first"
	if b.Each > 0 && b.Runs > 0 {
		text += fmt.Sprintf("; about %s, at %s a run", length(seconds(b.Left)), length(seconds(b.Each)))
	}
	if b.State == "preview" {
		fmt.Fprintf(a.out, "it would make %s\nNothing was begun (--dry-run).\n", text)
		return
	}
	fmt.Fprintf(a.out, "backfill %d makes %s; look at it with: lantern backfills %d\n", b.Number, text, b.Number)
}

// inZone is a moment on the wall clock of the backfill's zone.
func inZone(at time.Time, zone string) string {
	if z, err := time.LoadLocation(zone); err == nil {
		at = at.In(z)
	}
	return at.Format("Mon 02 Jan 2006 15:04")
}

func seconds(s float64) time.Duration { return time.Duration(s * float64(time.Second)) }

func (a *app) backfillsCommand() *cobra.Command {
	words := map[string]*bool{}
	follow := false
	c := &cobra.Command{
		Use:   "backfills [NUMBER]",
		Short: "List backfills, or show and direct one",
		Long: `List the backfills, newest first, or show one with how far it has come. --pause and
--resume keep it and let it go on, --stop ends it and its runs, --retry makes again
what did not succeed. None of these loses count.`,
		Example: `  lantern backfills
  lantern backfills 3
  lantern backfills 3 --pause
  lantern backfills 3 --retry --follow`,
		Args: cobra.MaximumNArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			service, err := a.client()
			if err != nil {
				return err
			}
			word := ""
			for name, said := range words {
				if *said {
					word = name
				}
			}
			if len(args) == 0 {
				if word != "" || follow {
					return &usageError{fmt.Errorf("say which backfill; lantern backfills lists them")}
				}
				list, err := service.Backfills(c.Context(), "")
				if err != nil {
					return err
				}
				return a.print(client.Backfills{Backfills: list}, func() error { a.backfillTable(list); return nil })
			}
			number, err := strconv.ParseInt(args[0], 10, 64)
			if err != nil {
				return &usageError{fmt.Errorf("%q is not the number of a backfill", args[0])}
			}
			b, err := service.ShowBackfill(c.Context(), number)
			if err == nil && word != "" {
				b, err = service.DirectBackfill(c.Context(), number, word)
			}
			if err != nil {
				return err
			}
			if follow {
				return a.followBackfill(c.Context(), service, number)
			}
			failed, err := service.BackfillWindows(c.Context(), number, "failed", 0)
			if err != nil {
				return err
			}
			return a.print(b, func() error {
				a.showBackfill(a.out, b)
				a.failedWindows(failed.Windows, b.Zone)
				return nil
			})
		},
	}
	for _, w := range []struct{ name, about string }{{"pause", "open no more runs of it"}, {"resume", "let it go on"}, {"stop", "end it, and its runs"}, {"retry", "make again what did not succeed"}} {
		words[w.name] = c.Flags().Bool(w.name, false, w.about)
	}
	c.MarkFlagsMutuallyExclusive("pause", "resume", "stop", "retry")
	c.Flags().BoolVarP(&follow, "follow", "f", false, "follow it to its end; the exit code is 1 if it ends badly")
	return c
}

func (a *app) backfillTable(list []client.Backfill) {
	p := painter(a.out)
	if len(list) == 0 {
		fmt.Fprintln(a.out, "There are no backfills yet. Make one with: lantern backfill WORKFLOW --from DATE --to DATE")
		return
	}
	var rows [][]string
	for _, b := range list {
		rows = append(rows, []string{fmt.Sprint(b.Number), p.strong(b.Workflow), p.state(b.State), inZone(b.From, b.Zone)[4:15] + " – " + inZone(b.Until.Add(-1), b.Zone)[4:15], progressText(b), p.counts(b.Counts), b.CreatedBy})
	}
	p.table(a.out, []string{"number", "workflow", "state", "range", "done", "runs", "by"}, rows)
}

func progressText(b client.Backfill) string {
	done := b.Runs - b.Counts["waiting"] - b.Counts["running"]
	return fmt.Sprintf("%d of %d", done, b.Runs)
}

// showBackfill draws a backfill with how far it has come.
func (a *app) showBackfill(out io.Writer, b client.Backfill) {
	p := painter(a.out)
	fmt.Fprintf(out, "%s  %s  %s\n", p.strong(fmt.Sprintf("backfill %d of %s", b.Number, b.Workflow)), p.state(b.State), p.dim(fmt.Sprintf("by %s, %s", b.CreatedBy, when(b.Created))))
	if b.Reason != "" {
		fmt.Fprintln(out, b.Reason)
	}
	fmt.Fprintf(out, "%s %s to %s, %s windows, the %s first\n", p.dim("range"), inZone(b.From, b.Zone), inZone(b.Until, b.Zone), b.Only, b.Order)
	const width = 48
	bar := ""
	drawn, sum := 0, 0
	for _, state := range []string{"succeeded", "failed", "stopped", "running"} {
		sum += b.Counts[state]
		until := sum * width / max(1, b.Runs)
		if b.Counts[state] > 0 && until == drawn {
			until = min(drawn+1, width)
		}
		bar += p.mark(state, strings.Repeat("█", until-drawn))
		drawn = until
	}
	bar += p.dim(strings.Repeat("░", width-drawn))
	fmt.Fprintf(out, "%s  %s  %s\n", bar, progressText(b), p.counts(b.Counts))
	if b.PerHour > 0 && b.State == "running" {
		fmt.Fprintf(out, "%s\n", p.dim(fmt.Sprintf("%.0f runs an hour; done in about %s", b.PerHour, length(seconds(b.Left)))))
	}
}

func (a *app) failedWindows(list []client.BackfillWindow, zone string) {
	if len(list) == 0 {
		return
	}
	const most = 10
	p := painter(a.out)
	fmt.Fprintln(a.out)
	var rows [][]string
	for _, w := range list[:min(most, len(list))] {
		rows = append(rows, []string{p.state(w.State), inZone(w.Window.Start, zone) + " – " + inZone(w.Window.End, zone), w.Run})
	}
	p.table(a.out, []string{"failed", "window", "run"}, rows)
	if len(list) > most {
		fmt.Fprintln(a.out, p.dim(fmt.Sprintf("and %d more", len(list)-most)))
	}
}

// followBackfill prints how far a backfill has come until it has ended or pauses.
func (a *app) followBackfill(ctx context.Context, service *client.Client, number int64) error {
	last := ""
	for {
		b, err := service.ShowBackfill(ctx, number)
		if err != nil {
			return err
		}
		line := fmt.Sprintf("%s  %s", progressText(b), painter(a.out).counts(b.Counts))
		if line != last {
			if err := a.print(b, func() error {
				_, err := fmt.Fprintln(a.out, line)
				return err
			}); err != nil {
				return err
			}
			last = line
		}
		if b.State != "running" {
			if a.format == "table" {
				a.showBackfill(a.out, b)
			}
			if b.State != "succeeded" {
				return &cameOutBadly{exitFailed}
			}
			return nil
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(500 * time.Millisecond):
		}
	}
}
