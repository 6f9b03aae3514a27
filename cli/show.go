package cli

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"wiselantern/client"
	"wiselantern/core/definition"
)

func (a *app) showCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "show RUN [TASK]",
		Short: "Show one run with its tasks, or one task of it",
		Long: `Show a run, NAME:NUMBER, with the state of each task and what went wrong. NAME
alone is its newest run. Of a task that is made for each item of a list, the items
that go, failed or need somebody are listed; all of them with TASK. With TASK its
attempts and its result are shown.`,
		Example: `  lantern show gauge-hourly:412
  lantern show gauge-hourly
  lantern show gauge-hourly:412 collect
  lantern show gauge-hourly:412 -o json`,
		Args:              cobra.RangeArgs(1, 2),
		ValidArgsFunction: a.completeTasks,
		RunE: func(c *cobra.Command, args []string) error {
			service, err := a.client()
			if err != nil {
				return err
			}
			if len(args) == 2 {
				return a.showTask(c.Context(), service, args[0], args[1])
			}
			if a.format != "table" {
				run, err := service.Run(c.Context(), args[0])
				if err != nil {
					return err
				}
				return a.print(run, nil)
			}
			run, err := runForPicture(c.Context(), service, args[0])
			if err == nil {
				fmt.Fprintln(a.out, runPicture(painter(a.out), run))
			}
			if err == nil && run.Forgotten != nil {
				fmt.Fprintf(a.out, "Its attempts and results are no longer kept, since %s (serve --keep-runs, --most-runs).\n", when(run.Forgotten))
			}
			return err
		},
	}
}

// mostItemsInPicture is how many items of a task are drawn with its run.
const mostItemsInPicture = 8

// runForPicture is a run with its tasks and those of their items that go, failed,
// or need somebody.
func runForPicture(ctx context.Context, service *client.Client, id string) (client.Run, error) {
	run, err := service.RunFolded(ctx, id)
	if err != nil {
		return run, err
	}
	folded := run.Tasks
	run.Tasks = nil
	for _, t := range folded {
		run.Tasks = append(run.Tasks, t)
		if t.Items == nil || t.Items.Count == 0 {
			continue
		}
		states := []string{"failed", "held", "stopped", "unreached", "cooling", "running", "waiting"}
		if !slices.ContainsFunc(states, func(s string) bool { return t.Items.Counts[s] > 0 }) {
			continue
		}
		page, err := service.Items(ctx, id, t.Name, client.ItemsFilter{States: states, Limit: mostItemsInPicture})
		if err != nil {
			return run, err
		}
		run.Tasks = append(run.Tasks, page.Items...)
	}
	return run, nil
}

// showTask shows one task of a run: its attempts, its result, and its items.
func (a *app) showTask(ctx context.Context, service *client.Client, run, name string) error {
	t, err := findTask(ctx, service, run, name)
	if err != nil {
		return err
	}
	var items []client.Task
	if t.Items != nil {
		for from := 0; ; {
			page, err := service.Items(ctx, run, name, client.ItemsFilter{From: from, Limit: 1000})
			if err != nil {
				return err
			}
			items = append(items, page.Items...)
			if page.Next == nil {
				break
			}
			from = *page.Next
		}
	}
	if a.format != "table" {
		return a.print(struct {
			client.Task
			ItemList []client.Task `json:"item_list,omitempty"`
		}{t, items}, nil)
	}
	p := painter(a.out)
	fmt.Fprintf(a.out, "%s  %s  %s\n", p.strong(t.Name), p.state(t.State), p.dim(strings.TrimSpace(t.Kind+"  "+t.About)))
	if note := taskNote(t); note != "" {
		fmt.Fprintln(a.out, note)
	}
	if t.ItemOf != "" {
		fmt.Fprintf(a.out, "%s %s\n", p.dim("item"), definition.Values{}.Text(t.Item))
	}
	if len(t.Attempts) > 0 {
		fmt.Fprintln(a.out)
		var rows [][]string
		for _, at := range t.Attempts {
			rows = append(rows, []string{fmt.Sprint(at.Number), p.state(at.State), orDash(at.Worker), when(at.Started), took(at.Started, at.Ended), strings.TrimSpace(at.Run + " " + at.Error)})
			for _, late := range at.Late {
				rows = append(rows, []string{"", p.dim("late"), late.Worker, "", "", p.dim(strings.TrimSpace(fmt.Sprintf("told at %s that it %s; that changed nothing %s", when(&late.Received), late.State, late.Error)))})
			}
		}
		p.table(a.out, []string{"attempt", "state", "worker", "started", "took", "note"}, rows)
	}
	if t.Result != nil {
		text, err := json.MarshalIndent(t.Result, "", "  ")
		if err != nil {
			return err
		}
		fmt.Fprintf(a.out, "\n%s\n%s\n", p.dim("result"), text)
	}
	if len(items) > 0 {
		fmt.Fprintf(a.out, "\n%s  %s\n\n", p.dim(plural(len(items), "item")), p.counts(t.Items.Counts))
		var rows [][]string
		for _, item := range items {
			rows = append(rows, taskRow(p, item))
		}
		p.table(a.out, []string{"item", "state", "attempts", "started", "took", "note"}, rows)
	}
	return nil
}

// taskRow is a task, or an item of one, as a line of a table.
func taskRow(p paint, t client.Task) []string {
	attempts := "–"
	if len(t.Attempts) > 0 {
		attempts = fmt.Sprint(len(t.Attempts))
	}
	name := t.Name
	if t.ItemOf != "" {
		name = fmt.Sprintf("  %s %s", strings.TrimPrefix(t.Name, t.ItemOf), p.dim(shortened(definition.Values{}.Text(t.Item), 24)))
	}
	return []string{name, p.state(t.State), attempts, when(t.Started), took(t.Started, t.Ended), taskNote(t)}
}

func shortened(text string, most int) string {
	if short := []rune(text); len(short) > most {
		return string(short[:most-1]) + "…"
	}
	return text
}

// runPicture is a run as show and watch draw it.
func runPicture(p paint, r client.Run) string {
	var out strings.Builder
	fmt.Fprintf(&out, "%s  %s  %s\n", p.strong(r.ID), p.state(r.State), p.dim(runInWords(r)))
	if r.Window != nil {
		text := span(r.Window)
		if r.Newer != "" {
			text += p.dim(", whose data now rests on ") + r.Newer
		}
		fmt.Fprintf(&out, "%s %s\n", p.dim("window"), text)
	}
	if r.Waits != "" {
		fmt.Fprintln(&out, r.Waits)
	}
	if late := lateness(r); late != "" {
		fmt.Fprintf(&out, "%s %s\n", p.dim("due   "), late)
	}
	var params []string
	for _, name := range sortedNames(r.Params) {
		params = append(params, name+"="+shortened(definition.Values{}.Text(r.Params[name]), 120))
	}
	if params != nil {
		fmt.Fprintf(&out, "%s %s\n", p.dim("params"), strings.Join(params, "  "))
	}
	for _, f := range r.FollowOn {
		fmt.Fprintf(&out, "%s %s %s\n", p.dim("then  "), f.Run, p.followed(f))
	}
	fmt.Fprintf(&out, "%s  %s\n\n", p.dim("tasks "), p.counts(r.Counts))
	var rows [][]string
	for _, t := range r.Tasks {
		rows = append(rows, taskRow(p, t))
	}
	p.table(&out, []string{"task", "state", "attempts", "started", "took", "note"}, rows)
	return strings.TrimRight(out.String(), "\n")
}

// followed says what became of a run that was to be made again after another.
func (p paint) followed(f client.FollowOn) string {
	switch f.State {
	case "waiting":
		return p.mark("waiting", flowWaiting+" is made again after it")
	case "done":
		return p.mark("succeeded", "was made again after it")
	}
	return p.mark("failed", "was not made again: "+f.Reason)
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

// lateness tells when a run was due, and how much later it was made, began, and
// had its first attempt.
func lateness(r client.Run) string {
	if r.Due == nil {
		return ""
	}
	text := fmt.Sprintf("%s, made %s later", when(r.Due), length(r.Created.Sub(*r.Due)))
	if r.Started != nil {
		text += fmt.Sprintf(", begun %s later", length(r.Started.Sub(*r.Due)))
	}
	var first *time.Time
	for _, t := range r.Tasks {
		if t.Started != nil && (first == nil || t.Started.Before(*first)) {
			first = t.Started
		}
	}
	if first != nil {
		text += fmt.Sprintf(", first attempt %s later", length(first.Sub(*r.Due)))
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
	case t.Items != nil && t.State == "running":
		return itemsNote(t.Items)
	case t.Reason != "":
		return t.Reason
	case t.Items != nil && t.Items.Count > 0:
		return plural(t.Items.Count, "item")
	case len(t.Attempts) > 1 && t.State == "succeeded" && t.Attempts[len(t.Attempts)-2].Error != "":
		return "before: " + t.Attempts[len(t.Attempts)-2].Error
	}
	return ""
}

// itemsNote says how far the items of a task have come.
func itemsNote(items *client.ItemCounts) string {
	settled := 0
	for _, state := range []string{"succeeded", "failed", "skipped", "unreached", "stopped"} {
		settled += items.Counts[state]
	}
	text := fmt.Sprintf("%d of %d items done", settled, items.Count)
	if failed := items.Counts["failed"]; failed > 0 {
		text += fmt.Sprintf(", %d failed", failed)
	}
	return text
}

// findTask is a task of a run, or an item of one.
func findTask(ctx context.Context, service *client.Client, id, name string) (t client.Task, err error) {
	task, item, isItem := strings.Cut(name, "[")
	place, notNumber := strconv.Atoi(strings.TrimSuffix(item, "]"))
	if isItem && notNumber == nil {
		page, err := service.Items(ctx, id, task, client.ItemsFilter{From: place, Limit: 1})
		if err != nil {
			return t, err
		}
		if len(page.Items) == 1 && page.Items[0].Name == name {
			return page.Items[0], nil
		}
	}
	run, err := service.RunFolded(ctx, id)
	if err != nil {
		return t, err
	}
	for _, t := range run.Tasks {
		if t.Name == name {
			return t, nil
		}
	}
	// The service knows the nearest name.
	_, err = service.Lines(ctx, id, name, 0, 0)
	return t, err
}
