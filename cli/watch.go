package cli

import (
	"context"
	"fmt"
	"os"
	"time"

	tea "github.com/charmbracelet/bubbletea"
	"github.com/spf13/cobra"
	"golang.org/x/term"

	"wiselantern/client"
)

func (a *app) watchCommand() *cobra.Command {
	var choice client.WatchChoice
	c := &cobra.Command{
		Use:   "watch [RUN]",
		Short: "Watch everything, or a run to its end",
		Long: `Watch everything: what is failing, late, held, running and due next. Or watch a run,
NAME:NUMBER or the newest of NAME, until it ends. On a terminal both are live
views (q leaves them; what runs goes on); otherwise each change is a line. With a run the
exit code is 1 if it failed or was stopped.`,
		Example: `  lantern watch
  lantern watch --owner hydrology
  lantern watch gauge-hourly:412
  lantern watch gauge-hourly | tee run.txt`,
		Args:              cobra.MaximumNArgs(1),
		ValidArgsFunction: a.completeRuns,
		RunE: func(c *cobra.Command, args []string) error {
			service, err := a.client()
			if err != nil {
				return err
			}
			if len(args) == 0 {
				return a.watchAll(c.Context(), service, choice)
			}
			if choice.Owner+choice.Label+choice.Project != "" {
				return &usageError{fmt.Errorf("--owner, --label and --project go without a RUN")}
			}
			return a.watch(c.Context(), service, args[0])
		},
	}
	c.Flags().StringVar(&choice.Owner, "owner", "", "only workflows of this owner")
	c.Flags().StringVar(&choice.Label, "label", "", "only workflows with this label")
	c.Flags().StringVar(&choice.Project, "project", "", "only workflows of this project")
	return c
}

func (a *app) watch(ctx context.Context, service *client.Client, id string) error {
	run, err := service.Run(ctx, id)
	if err != nil {
		return err
	}
	out, isFile := a.out.(*os.File)
	if isFile && term.IsTerminal(int(out.Fd())) && a.format == "table" {
		run, err = a.watchLive(ctx, service, run)
	} else {
		run, err = a.watchLines(ctx, service, run.ID)
	}
	if err != nil {
		return err
	}
	if run.State == "failed" || run.State == "stopped" {
		return &cameOutBadly{exitFailed}
	}
	return nil
}

// watchLines prints each change as a line, from the first.
func (a *app) watchLines(ctx context.Context, service *client.Client, id string) (client.Run, error) {
	p := painter(a.out)
	return service.FollowRun(ctx, id, func(c client.Change) error {
		name := c.Task
		if name == "" {
			name = c.Run
		}
		return a.print(c, func() error {
			text := fmt.Sprintf("%s  %-24s %s", p.dim(c.At.Local().Format("15:04:05.000")), name, p.state(c.After))
			if c.Reason != "" {
				text += "  " + p.dim(c.Reason)
			}
			_, err := fmt.Fprintln(a.out, text)
			return err
		})
	})
}

// live is the live view: it reads the run anew when something of it changes, and
// draws it anew each half second, so that durations grow.
type live struct {
	run     client.Run
	paint   paint
	refresh func() tea.Msg
	err     error
	left    bool
}

type (
	changed struct{}
	fetched struct {
		run client.Run
		err error
	}
	tick struct{}
)

func (m live) Init() tea.Cmd { return tea.Batch(m.refresh, ticking()) }

func ticking() tea.Cmd {
	return tea.Tick(500*time.Millisecond, func(time.Time) tea.Msg { return tick{} })
}

func (m live) Update(message tea.Msg) (tea.Model, tea.Cmd) {
	switch message := message.(type) {
	case tea.KeyMsg:
		switch message.String() {
		case "q", "esc", "ctrl+c":
			m.left = true
			return m, tea.Quit
		}
	case changed:
		return m, m.refresh
	case tick:
		return m, ticking()
	case fetched:
		if m.err = message.err; m.err != nil {
			return m, tea.Quit
		}
		m.run = message.run
		if m.run.Ended != nil {
			return m, tea.Quit
		}
	}
	return m, nil
}

func (m live) View() string {
	text := runPicture(m.paint, m.run) + "\n"
	if m.run.Ended == nil && !m.left {
		text += "\n" + m.paint.dim("q leaves; the run goes on") + "\n"
	}
	return text
}

func (a *app) watchLive(ctx context.Context, service *client.Client, run client.Run) (client.Run, error) {
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	model := live{run: run, paint: painter(a.out), refresh: func() tea.Msg {
		fresh, err := runForPicture(ctx, service, run.ID)
		return fetched{fresh, err}
	}}
	program := tea.NewProgram(model, tea.WithContext(ctx), tea.WithInput(a.in), tea.WithOutput(a.out))
	go func() {
		err := service.Follow(ctx, run.ID, -1, func(client.Change) error {
			program.Send(changed{})
			return nil
		})
		if err != nil && ctx.Err() == nil {
			program.Send(fetched{run, err})
		}
	}()
	last, err := program.Run()
	if err != nil {
		return run, err
	}
	end := last.(live)
	if end.left {
		return client.Run{}, end.err
	}
	return end.run, end.err
}
