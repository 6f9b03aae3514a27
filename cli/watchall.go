package cli

import (
	"context"
	"fmt"
	"os"
	"strings"
	"time"

	tea "github.com/charmbracelet/bubbletea"
	"golang.org/x/term"

	"wiselantern/client"
)

// watchAll watches everything: on a terminal a live screen, otherwise a line for
// each change, until it is left.
func (a *app) watchAll(ctx context.Context, service *client.Client, choice client.WatchChoice) error {
	first, err := service.Watch(ctx, choice)
	if err != nil {
		return err
	}
	out, isFile := a.out.(*os.File)
	if !isFile || !term.IsTerminal(int(out.Fd())) || a.format != "table" {
		return a.watchAllLines(ctx, service, first)
	}
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	model := watching{watch: first, paint: painter(a.out), refresh: func() tea.Msg {
		fresh, err := service.Watch(ctx, choice)
		return watched{fresh, err}
	}}
	program := tea.NewProgram(model, tea.WithContext(ctx), tea.WithInput(a.in), tea.WithOutput(a.out), tea.WithAltScreen())
	go func() {
		for ctx.Err() == nil {
			err := service.Follow(ctx, "", -1, func(client.Change) error {
				program.Send(changed{})
				return nil
			})
			if ctx.Err() == nil {
				program.Send(watched{err: err}) // the screen stays, and says so
				time.Sleep(time.Second)
			}
		}
	}()
	_, err = program.Run()
	return err
}

// watchAllLines prints how things stand, and each change as a line, from now on.
func (a *app) watchAllLines(ctx context.Context, service *client.Client, first client.Watch) error {
	p := painter(a.out)
	if a.format == "table" {
		fmt.Fprintln(a.out, summaryOf(p, first))
	}
	err := service.Follow(ctx, "", -1, func(c client.Change) error {
		return a.print(c, func() error {
			text := fmt.Sprintf("%s  %-44s %s", p.dim(c.At.Local().Format("15:04:05.000")), strings.TrimSpace(c.Run+"  "+c.Task), p.state(c.After))
			if c.Reason != "" {
				text += "  " + p.dim(c.Reason)
			}
			_, err := fmt.Fprintln(a.out, text)
			return err
		})
	})
	if ctx.Err() != nil { // it was left, which is how this ends
		return nil
	}
	return err
}

func summaryOf(p paint, w client.Watch) string {
	parts := []string{p.mark("running", fmt.Sprintf("◐ %d running", w.Running.Total))}
	if w.Late.Total > 0 {
		parts = append(parts, p.mark("waiting", fmt.Sprintf("◷ %d late", w.Late.Total)))
	}
	if len(w.Held) > 0 {
		parts = append(parts, p.mark("held", fmt.Sprintf("◇ %d for a person", len(w.Held))))
	}
	if len(w.Failing) > 0 {
		parts = append(parts, p.mark("failed", fmt.Sprintf("✕ %d failing", len(w.Failing))))
	} else {
		parts = append(parts, p.mark("succeeded", "● nothing failing"))
	}
	n := w.Numbers
	return strings.Join(parts, "   ") + p.dim(fmt.Sprintf("   last day %d succeeded, %d failed; the day before %d and %d", n.Day.Succeeded, n.Day.Failed, n.DayBefore.Succeeded, n.DayBefore.Failed))
}

// watching is the live screen of everything.
type watching struct {
	watch         client.Watch
	paint         paint
	refresh       func() tea.Msg
	err           error
	asked         bool // it is being read anew
	again         bool // something changed meanwhile
	width, height int
}

type watched struct {
	watch client.Watch
	err   error
}

type gathered struct{}

func (m watching) Init() tea.Cmd { return ticking() }

func (m watching) Update(message tea.Msg) (tea.Model, tea.Cmd) {
	switch message := message.(type) {
	case tea.WindowSizeMsg:
		m.width, m.height = message.Width, message.Height
	case tea.KeyMsg:
		switch message.String() {
		case "q", "esc", "ctrl+c":
			return m, tea.Quit
		}
	case changed:
		if m.asked {
			m.again = true
			return m, nil
		}
		m.asked = true
		return m, tea.Tick(300*time.Millisecond, func(time.Time) tea.Msg { return gathered{} })
	case gathered:
		return m, m.refresh
	case tick:
		return m, ticking()
	case watched:
		m.asked = false
		if m.err = message.err; m.err == nil && !message.watch.At.IsZero() {
			m.watch = message.watch
		}
		if m.again {
			m.again = false
			return m.Update(changed{})
		}
	}
	return m, nil
}

func (m watching) View() string {
	p, w := m.paint, m.watch
	var text strings.Builder
	text.WriteString(summaryOf(p, w) + "\n")
	if w.Problem != "" {
		text.WriteString(p.mark("failed", "✕ "+w.Problem) + "\n")
	}
	part := func(title string, head []string, rows [][]string) {
		if len(rows) > 0 {
			text.WriteString("\n" + p.strong(title) + "\n")
			p.tableWithin(&text, head, rows, m.width)
		}
	}
	var rows [][]string
	for _, t := range w.Failing {
		about := t.Error
		if t.Hint != nil {
			about = t.Hint.Cause
		}
		rows = append(rows, []string{p.mark("failed", "✕ "+place(t.Workflow, t.Task)), when(&t.Opened), windowsWithout(t), about})
	}
	part("failing", []string{"where", "since", "without data", "what"}, rows)
	rows = nil
	for _, r := range w.Late.Runs {
		rows = append(rows, []string{p.mark("waiting", "◷ "+r.ID), when(&r.Late.Since), r.Late.Reason})
	}
	for _, d := range w.Datasets {
		rows = append(rows, []string{p.mark("waiting", "◷ "+d.Name), when(d.LateSince), "should be fresh within " + d.FreshWithin})
	}
	part("late", []string{"what", "since", "why"}, rows)
	rows = nil
	for _, h := range w.Held {
		rows = append(rows, []string{p.mark("held", "◇ "+h.Run), h.Task, when(&h.Since), h.Reason})
	}
	part("needs a person", []string{"run", "task", "since", "why"}, rows)
	rows = nil
	for _, r := range w.Running.Runs {
		rows = append(rows, []string{p.mark("running", "◐ "+r.ID), span(r.Window), took(r.Started, nil), when(r.Expected), p.counts(r.Counts)})
	}
	part("running", []string{"run", "window", "for", "usually ends", "tasks"}, rows)
	rows = nil
	for _, u := range w.Next[:min(len(w.Next), 8)] {
		rows = append(rows, []string{"◔ " + u.Workflow, when(&u.Due), "in " + length(time.Until(u.Due))})
	}
	part("due next", []string{"workflow", "at", ""}, rows)
	foot := "q leaves"
	if m.err != nil {
		foot = p.mark("failed", "the connection is lost; this is what was known at "+when(&w.At)) + "; q leaves"
	}
	lines := strings.Split(strings.TrimRight(text.String(), "\n"), "\n")
	if m.height > 3 && len(lines) > m.height-2 {
		cut := len(lines) - (m.height - 3)
		lines = append(lines[:m.height-3], p.dim(fmt.Sprintf("… and %d lines more; the console shows all", cut)))
	}
	return strings.Join(lines, "\n") + "\n\n" + p.dim(foot)
}
