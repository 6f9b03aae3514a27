package cli

import (
	"context"
	"fmt"
	"log/slog"
	"os"
	"os/signal"
	"path/filepath"
	"runtime"
	"strings"
	"syscall"

	"github.com/nats-io/nats.go"
	"github.com/spf13/cobra"

	"wiselantern/core/definition"
	"wiselantern/service"
	"wiselantern/service/dispatch"
	"wiselantern/service/store"
	"wiselantern/worker/station"
)

type workerOptions struct {
	beside, join, credentials, name, dir string
	slots                                int
	queues, labels                       []string
	verbose                              bool
}

func (a *app) workerCommand() *cobra.Command {
	o := &workerOptions{}
	c := &cobra.Command{
		Use:   "worker",
		Short: "Run a worker that joins a service on another machine",
		Long: `Run a worker that joins a service, takes tasks of the queues that it names, and
executes them on this machine. The service says who may join: lantern workers admit
NAME, on its machine, writes the credentials that the worker shows.

Without a connection it goes on with what it has, keeps reports and logs on disk, and
tells them later. The first SIGTERM or Ctrl-C has it take no more tasks and end with
the last that it has; the second gives up what it has, and that is made again.`,
		Example: `  lantern workers admit field-1 > field-1.credentials
  lantern worker --join tls://service.example:7641 --credentials field-1.credentials --name field-1
  lantern worker --join tls://service.example:7641 --credentials field-2.credentials --name field-2 --queue upland --slots 8 --label site=dam`,
		Args: usage(cobra.NoArgs),
		RunE: func(c *cobra.Command, _ []string) error {
			level := slog.LevelWarn
			if o.verbose {
				level = slog.LevelInfo
			}
			return a.runWorker(c.Context(), o, slog.New(slog.NewTextHandler(a.err, &slog.HandlerOptions{Level: level})))
		},
	}
	c.Flags().StringVar(&o.join, "join", "", "where it joins: an address, as in tls://HOST:PORT, or several of a cluster")
	c.Flags().StringVar(&o.credentials, "credentials", "", "the file of its credentials")
	c.Flags().StringVar(&o.name, "name", service.OwnWorker(), "its name")
	c.Flags().StringSliceVar(&o.queues, "queue", []string{definition.DefaultQueue}, "a queue that it takes tasks from")
	c.Flags().IntVar(&o.slots, "slots", max(4, 2*runtime.NumCPU()), "attempts at once")
	c.Flags().StringSliceVar(&o.labels, "label", nil, "what people should know of it, NAME=VALUE")
	c.Flags().StringVar(&o.dir, "dir", "lantern-worker", "its folder: parcels, and what is still to be told")
	c.Flags().BoolVar(&o.verbose, "verbose", false, "log what the worker does to standard error")
	c.Flags().StringVar(&o.beside, "beside", "", "the data folder of the service that it belongs to")
	_ = c.Flags().MarkHidden("beside") // serve says it
	return c
}

// runWorker is the life of a worker.
func (a *app) runWorker(ctx context.Context, o *workerOptions, log *slog.Logger) error {
	s := station.Options{Name: o.name, Version: Version(), Slots: o.slots, Queues: o.queues, Labels: map[string]string{}, Log: log}
	if o.slots < 1 {
		return &usageError{fmt.Errorf("--slots %d: write a number from 1", o.slots)}
	}
	if err := dispatch.CheckName(o.name); err != nil {
		return &usageError{fmt.Errorf("--name: %w", err)}
	}
	for _, q := range o.queues {
		if !definition.IsName(q) {
			return &usageError{fmt.Errorf("--queue %s: write small letters, digits and -, beginning with a letter", q)}
		}
	}
	for _, label := range o.labels {
		name, value, ok := strings.Cut(label, "=")
		if !ok || name == "" {
			return &usageError{fmt.Errorf("--label %s: write NAME=VALUE", label)}
		}
		s.Labels[name] = value
	}
	own := []nats.Option{nats.Name("worker " + o.name), nats.CustomInboxPrefix("_INBOX." + o.name)}
	var err error
	switch {
	case o.beside != "":
		if info, err := os.Stat(o.beside); err != nil || !info.IsDir() {
			return &usageError{fmt.Errorf("--beside %s: there is no such folder", o.beside)}
		}
		if s.Logs, err = store.OpenLogs(ctx, filepath.Join(o.beside, "logs.db")); err != nil {
			return err
		}
		defer s.Logs.Close()
		s.Local, s.Dir = true, service.WorkerDir(o.beside)
		if o.join == "" {
			s.Conn, err = service.Enter(s.Dir, log, own...)
		} else {
			s.Conn, err = service.Join(service.Messages{URL: o.join, Credentials: o.credentials}, log, own...)
		}
	case o.join == "":
		return &usageError{fmt.Errorf("say where the worker joins, as in --join tls://service.example:7641")}
	default:
		if s.Dir, err = filepath.Abs(o.dir); err != nil {
			return err
		}
		if s.Conn, err = service.Join(service.Messages{URL: o.join, Credentials: o.credentials}, log, own...); err == nil {
			fmt.Fprintf(a.out, "Worker %s takes %s at once from %s, joined at %s\n", o.name, plural(o.slots, "task"), strings.Join(o.queues, ", "), service.Messages{URL: o.join}.Public())
		}
	}
	if err != nil {
		return err
	}
	defer s.Conn.Close()
	return work(ctx, s)
}

// work runs a worker. The first signal has it end when it has nothing left, the second
// gives up what it has.
func work(ctx context.Context, o station.Options) error {
	drain, stop := context.WithCancel(context.WithoutCancel(ctx))
	defer stop()
	urge := make(chan struct{})
	signals := make(chan os.Signal, 4)
	signal.Notify(signals, syscall.SIGTERM, syscall.SIGINT)
	defer signal.Stop(signals)
	go func() {
		<-signals
		o.Log.Info("no more tasks are taken; the worker ends with the last that it has")
		stop()
		<-signals
		close(urge)
	}()
	return station.Live(drain, urge, o)
}

// crewCommands say who may work.
func (a *app) crewCommands() []*cobra.Command {
	admit := &cobra.Command{
		Use:   "admit NAME",
		Short: "Let a worker of another machine join",
		Long: `Let a worker of another machine join, and print its credentials: they are told once.
Admitted again, a worker gets new ones, and the old ones are good for nothing.`,
		Example: `  lantern workers admit field-1 > field-1.credentials`,
		Args:    usage(cobra.ExactArgs(1)),
		RunE: func(c *cobra.Command, args []string) error {
			service, err := a.client()
			if err != nil {
				return err
			}
			admitted, err := service.Admit(c.Context(), args[0])
			if err != nil {
				return err
			}
			return a.print(admitted, func() error {
				fmt.Fprint(a.out, admitted.Credentials)
				fmt.Fprintf(a.err, "On its machine:\n  lantern worker --join %s --credentials FILE --name %s\n", admitted.Address, admitted.Worker)
				return nil
			})
		},
	}
	word := func(name, short, long, done string, do func(c *cobra.Command, name string) error) *cobra.Command {
		return &cobra.Command{Use: name + " NAME", Short: short, Long: long, Example: "  lantern workers " + name + " field-1", Args: usage(cobra.ExactArgs(1)),
			RunE: func(c *cobra.Command, args []string) error {
				if err := do(c, args[0]); err != nil {
					return err
				}
				fmt.Fprintf(a.err, done+"\n", args[0])
				return nil
			}}
	}
	drain := func(on bool) func(*cobra.Command, string) error {
		return func(c *cobra.Command, name string) error {
			service, err := a.client()
			if err == nil {
				_, err = service.Drain(c.Context(), name, on)
			}
			return err
		}
	}
	return []*cobra.Command{admit,
		word("dismiss", "Let a worker join no more", "Let a worker join no more. Its connection is cut; what it executes is taken for lost\nafter a minute and made again.", "%s can join no more", func(c *cobra.Command, name string) error {
			service, err := a.client()
			if err == nil {
				_, err = service.Dismiss(c.Context(), name)
			}
			return err
		}),
		word("drain", "Have a worker take no more tasks", "Have a worker take no more tasks. Those that it executes go on to their end.", "%s takes no more tasks; those that it has go on", drain(true)),
		word("resume", "Have a worker take tasks again", "Have a worker take tasks again that was drained.", "%s takes tasks again", drain(false)),
	}
}
