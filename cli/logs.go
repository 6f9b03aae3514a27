package cli

import (
	"context"
	"fmt"
	"io"

	"github.com/spf13/cobra"

	"wiselantern/client"
)

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
			if page.Cleared != "" {
				fmt.Fprintf(a.err, "%s\n", painter(a.err).dim("the log was removed: logs are kept for "+page.Cleared+" after their run has ended"))
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
		if t, err := findTask(ctx, service, o.run, o.task); err != nil {
			return err
		} else if len(t.Attempts) > 0 {
			attempt = len(t.Attempts)
		}
	}
	for {
		if err := a.untilAttempt(ctx, service, o, attempt); err != nil {
			return err
		}
		t, err := findTask(ctx, service, o.run, o.task)
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
		if t, err := findTask(ctx, service, o.run, o.task); err != nil || t.Ended != nil && len(t.Attempts) < attempt {
			return err
		}
		fmt.Fprintln(a.err, painter(a.err).dim(fmt.Sprintf("attempt %d has ended; waiting for attempt %d", attempt-1, attempt)))
	}
}

// untilAttempt waits until a task has that attempt or has settled.
func (a *app) untilAttempt(ctx context.Context, service *client.Client, o logOptions, attempt int) error {
	ready := func() (bool, error) {
		t, err := findTask(ctx, service, o.run, o.task)
		return t.Ended != nil || len(t.Attempts) >= attempt, err
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
