package cli

import (
	"context"
	"fmt"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"wiselantern/client"
)

type failuresOptions struct {
	choice              client.WatchChoice
	closed              bool
	take, leave, close  bool
	note, knownUntil    string
	rerun, anew, follow bool
	dry                 bool
}

func (a *app) failuresCommand() *cobra.Command {
	o := &failuresOptions{}
	c := &cobra.Command{
		Use:   "failures [NUMBER]",
		Short: "List what is broken, grouped by the same error, and act on it",
		Long: `List the open troubles: failures of one task that say the same, but for what
differs from run to run. With a NUMBER, show one: since when, which windows are
without data, the last good run and what changed since, the lines of the log that
matter, and what it is likely to come from. A trouble closes itself when its
windows have succeeded.

--rerun makes the failed tasks of all its runs again, with the version that each run
began with; --anew makes new runs for the same windows with the newest version.`,
		Example: `  lantern failures
  lantern failures 12
  lantern failures 12 --take --note "asked the partner"
  lantern failures 12 --rerun --follow-on --dry-run
  lantern failures 12 --known-until 2026-03-29
  lantern failures --closed`,
		Args: cobra.MaximumNArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			service, err := a.client()
			if err != nil {
				return err
			}
			if len(args) == 0 {
				if o.acts() {
					return &usageError{fmt.Errorf("to act on a trouble, name it: lantern failures NUMBER")}
				}
				list, err := service.Troubles(c.Context(), o.choice, o.closed)
				if err != nil {
					return err
				}
				return a.print(client.Troubles{Troubles: list}, func() error { a.troubleTable(list, o.closed); return nil })
			}
			number, err := strconv.ParseInt(args[0], 10, 64)
			if err != nil {
				return &usageError{fmt.Errorf("%q is not the number of a trouble; lantern failures lists them", args[0])}
			}
			return a.failure(c.Context(), service, number, o)
		},
	}
	flags := c.Flags()
	flags.StringVar(&o.choice.Owner, "owner", "", "only of workflows of this owner")
	flags.StringVar(&o.choice.Label, "label", "", "only of workflows with this label")
	flags.StringVar(&o.choice.Project, "project", "", "only of workflows of this project")
	flags.BoolVar(&o.closed, "closed", false, "list those that are closed, newest first")
	flags.BoolVar(&o.take, "take", false, "say that it is in your hands")
	flags.BoolVar(&o.leave, "leave", false, "say that it no longer is")
	flags.StringVar(&o.note, "note", "", "tell others something about it")
	flags.StringVar(&o.knownUntil, "known-until", "", "say that nobody need look at it until this date or moment")
	flags.BoolVar(&o.close, "close", false, "close it, although its windows have not succeeded")
	flags.BoolVar(&o.rerun, "rerun", false, "make the failed tasks of all its runs again")
	flags.BoolVar(&o.anew, "anew", false, "make new runs for its windows, with the newest version")
	flags.BoolVar(&o.follow, "follow-on", false, "with --rerun: and then what rested on them in other workflows")
	flags.BoolVar(&o.dry, "dry-run", false, "with --rerun or --anew: only tell which")
	c.MarkFlagsMutuallyExclusive("rerun", "anew", "close")
	c.MarkFlagsMutuallyExclusive("take", "leave")
	return c
}

func (o *failuresOptions) acts() bool {
	return o.take || o.leave || o.close || o.note != "" || o.knownUntil != "" || o.rerun || o.anew
}

// failure shows a trouble, or does what is asked with it.
func (a *app) failure(ctx context.Context, service *client.Client, number int64, o *failuresOptions) error {
	if (o.follow || o.dry) && !o.rerun && !o.anew || o.follow && o.anew {
		return &usageError{fmt.Errorf("--follow-on goes with --rerun, and --dry-run with --rerun or --anew")}
	}
	words, err := o.words()
	if err != nil {
		return err
	}
	for _, w := range words {
		if _, err := service.SayOfTrouble(ctx, number, w); err != nil {
			return err
		}
	}
	if o.rerun || o.anew {
		list, err := service.RerunTrouble(ctx, number, client.TroubleRerun{Anew: o.anew, FollowOn: o.follow, DryRun: o.dry})
		if err != nil {
			return err
		}
		return a.print(client.TroubleReruns{Reruns: list}, func() error { a.troubleReruns(list, o); return nil })
	}
	story, err := service.Trouble(ctx, number)
	if err != nil {
		return err
	}
	return a.print(story, func() error { a.troubleStory(story); return nil })
}

func (o *failuresOptions) words() (words []client.TroubleWord, err error) {
	switch {
	case o.take:
		words = append(words, client.TroubleWord{Word: "take", Text: o.note})
	case o.leave:
		words = append(words, client.TroubleWord{Word: "leave", Text: o.note})
	}
	if o.knownUntil != "" {
		until, err := time.ParseInLocation(time.DateOnly, o.knownUntil, time.Local)
		if err != nil {
			if until, err = time.Parse(time.RFC3339, o.knownUntil); err != nil {
				return nil, &usageError{fmt.Errorf("--known-until %q: write a date, as in 2026-03-29, or a moment, as in 2026-03-29T06:00:00Z", o.knownUntil)}
			}
		}
		words = append(words, client.TroubleWord{Word: "known", Until: &until, Text: o.note})
	}
	if o.close {
		words = append(words, client.TroubleWord{Word: "close", Text: o.note})
	}
	if words == nil && o.note != "" {
		words = append(words, client.TroubleWord{Word: "note", Text: o.note})
	}
	return words, nil
}

func (a *app) troubleTable(list []client.Trouble, closed bool) {
	p := painter(a.out)
	if len(list) == 0 {
		if closed {
			fmt.Fprintln(a.out, "No trouble has been closed yet.")
		} else {
			fmt.Fprintln(a.out, p.state("succeeded")+": nothing is broken.")
		}
		return
	}
	var rows [][]string
	for _, t := range list {
		since, about := when(&t.Opened), t.Error
		if t.Hint != nil {
			about = t.Hint.Cause
		}
		state := "open"
		switch {
		case t.Closed != nil:
			state = "closed " + when(t.Closed)
		case t.KnownUntil != nil && t.KnownUntil.After(time.Now()):
			state = "known until " + when(t.KnownUntil)
		case t.TakenBy != "":
			state = "with " + t.TakenBy
		}
		rows = append(rows, []string{p.strong(fmt.Sprint(t.Number)), p.mark("failed", place(t.Workflow, t.Task)), since, fmt.Sprintf("%d×", t.Count), windowsWithout(t), state, about})
	}
	p.table(a.out, []string{"", "where", "since", "failed", "without data", "", "what"}, rows)
}

func place(workflow, task string) string {
	if task == "" {
		return workflow
	}
	return workflow + " / " + task
}

func windowsWithout(t client.Trouble) string {
	switch {
	case t.Closed != nil:
		return "–"
	case t.Windows > 0:
		return plural(t.Windows, "window")
	}
	return plural(t.Runs, "run")
}

func (a *app) troubleStory(s client.TroubleStory) {
	p := painter(a.out)
	fmt.Fprintf(a.out, "%s  %s\n", p.mark("failed", "✕ "+place(s.Workflow, s.Task)), p.dim(fmt.Sprintf("trouble %d", s.Number)))
	fmt.Fprintln(a.out, s.Error)
	if s.Hint != nil {
		fmt.Fprintf(a.out, "\n%s %s\n", p.strong(s.Hint.Cause), s.Hint.Try)
	}
	fmt.Fprintln(a.out)
	fact := func(name, value string) {
		if value != "" {
			fmt.Fprintf(a.out, "%s %s\n", p.dim(fmt.Sprintf("%-13s", name)), value)
		}
	}
	fact("since", when(&s.Opened)+", "+fmt.Sprintf("failed %d×, last %s", s.Count, when(&s.Last)))
	if s.Earlier > 0 {
		fact("before", plural(s.Earlier, "trouble")+" like it")
	}
	if s.Closed != nil {
		by := "its windows have succeeded"
		if s.ClosedBy != "" {
			by = "by " + s.ClosedBy
		}
		fact("closed", when(s.Closed)+", "+by)
	}
	if s.KnownUntil != nil {
		fact("known until", when(s.KnownUntil))
	}
	fact("with", s.TakenBy)
	var open []string
	for _, f := range s.Affected {
		if f.Mended == nil && len(open) < 8 {
			open = append(open, strings.TrimSpace(f.Run+"  "+strings.TrimSuffix(span(f.Window), "–")))
		}
	}
	for i, text := range open {
		name := ""
		if i == 0 {
			name = "without data"
		}
		fmt.Fprintf(a.out, "%s %s\n", p.dim(fmt.Sprintf("%-13s", name)), text)
	}
	if s.Runs > len(open) {
		fact("", fmt.Sprintf("and %d more", s.Runs-len(open)))
	}
	if s.LastGood != nil {
		fact("last good", fmt.Sprintf("%s, ended %s", s.LastGood.ID, when(s.LastGood.Ended)))
		if len(s.Changed) == 0 {
			fact("since then", "nothing changed that is known here")
		}
	}
	for i, d := range s.Changed {
		name := ""
		if i == 0 {
			name = "since then"
		}
		fmt.Fprintf(a.out, "%s %s %s: %s → %s\n", p.dim(fmt.Sprintf("%-13s", name)), d.Kind, d.Name, orDash(d.Before), orDash(d.After))
	}
	if len(s.Log) > 0 {
		fmt.Fprintf(a.out, "\n%s\n", p.dim(fmt.Sprintf("of the log of %s %s, attempt %d", s.Affected[0].Run, s.Affected[0].Task, s.Attempt)))
		for _, l := range s.Log {
			mark := " "
			if l.Stream == "err" {
				mark = p.mark("failed", "▎")
			}
			fmt.Fprintf(a.out, "%s %s %s\n", p.dim(fmt.Sprintf("%6d", l.Number+1)), mark, l.Text)
		}
	}
	for _, w := range s.Words {
		fmt.Fprintf(a.out, "\n%s %s %s", p.dim(when(&w.At)), w.Person, w.Word)
		if w.Text != "" {
			fmt.Fprintf(a.out, ": %s", w.Text)
		}
	}
	if len(s.Words) > 0 {
		fmt.Fprintln(a.out)
	}
	if s.Closed == nil && s.Runs > 0 {
		fmt.Fprintf(a.out, "\n%s\n", p.dim(fmt.Sprintf("Next: lantern failures %d --rerun --dry-run, or --take, --note, --known-until, --close", s.Number)))
	}
}

func (a *app) troubleReruns(list []client.TroubleRerunOf, o *failuresOptions) {
	p := painter(a.out)
	for _, r := range list {
		switch {
		case r.Refused != "":
			fmt.Fprintf(a.out, "%s  %s\n", p.strong(r.Run), p.mark("failed", r.Refused))
		case o.anew && o.dry:
			fmt.Fprintf(a.out, "%s  a new run for its window would be made\n", p.strong(r.Run))
		case o.anew:
			fmt.Fprintf(a.out, "%s  is made anew as %s\n", p.strong(r.Run), p.strong(r.Anew))
		default:
			verb := "makes again"
			if o.dry {
				verb = "would make again"
			}
			fmt.Fprintf(a.out, "%s  %s %s\n", p.strong(r.Run), verb, strings.Join(r.Tasks, ", "))
			for _, f := range r.FollowOn {
				fmt.Fprintf(a.out, "  then %s: %s\n", f.Run, strings.Join(f.Tasks, ", "))
			}
		}
	}
	if o.dry {
		fmt.Fprintln(a.out, p.dim("Nothing was done; leave out --dry-run to do it."))
	}
}
