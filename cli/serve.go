package cli

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"os"
	"path/filepath"
	"time"

	"github.com/spf13/cobra"

	"wiselantern/console"
	"wiselantern/core/definition"
	"wiselantern/service"
	"wiselantern/service/access"
)

const (
	defaultListen = "127.0.0.1:7640"
	defaultData   = "lantern-data"
)

type serveOptions struct {
	data, listen string
	hosts        []string
	slots        int
	files        string
	price        float64
	keepLogs     string
	keepRuns     string
	copies       string
	mostRuns     int
	newestRuns   int
	endTasks     bool
	joining      string
	messages     service.Messages
	verbose      bool
}

func (o *serveOptions) register(c *cobra.Command) {
	c.Flags().StringVar(&o.listen, "listen", defaultListen, "address to listen on, HOST:PORT")
	c.Flags().StringSliceVar(&o.hosts, "host", nil, "further name under which the service may be asked for")
	c.Flags().IntVar(&o.slots, "slots", 0, "attempts at once (default twice the processors, at least 4)")
	c.Flags().StringVar(&o.files, "files", "", "folder of the paths in waits and starts that are not absolute (default the one it is started in)")
	c.Flags().StringVar(&o.keepLogs, "keep-logs", "", "how long after its run ended a log is kept, as in 90d (default for ever)")
	c.Flags().StringVar(&o.copies, "copies", "", "a folder on another disk to which everything is copied as it is recorded; lantern restore makes a data folder of it")
	c.Flags().StringVar(&o.keepRuns, "keep-runs", "", "how long after its end the attempts of a run are kept, and events, as in 400d (default for ever)")
	c.Flags().IntVar(&o.mostRuns, "most-runs", 0, "how many runs of each workflow are kept with their attempts and logs at most (default any number)")
	c.Flags().IntVar(&o.newestRuns, "newest-runs", 7, "how many of the newest runs of each workflow are kept in any case")
	c.Flags().Float64Var(&o.price, "price-per-hour", 0, "what an hour of processor time costs, for lantern usage and the console")
	c.Flags().StringVar(&o.joining, "workers-listen", "", "address at which workers of other machines join over TLS, HOST:PORT")
	c.Flags().StringVar(&o.messages.URL, "messages", "", "an outside message server (NATS with JetStream) or several of a cluster, as in tls://messages-1:4222")
	c.Flags().StringVar(&o.messages.Credentials, "messages-credentials", "", "the file of the credentials for it")
	c.Flags().BoolVar(&o.endTasks, "end-tasks", o.endTasks, "when the service stops, give up what its worker executes")
	c.Flags().BoolVar(&o.verbose, "verbose", false, "log what the service does to standard error")
}

func (a *app) serveCommand() *cobra.Command {
	o := &serveOptions{}
	c := &cobra.Command{
		Use:   "serve",
		Short: "Run the service",
		Long: `Run the service on a data folder, until SIGINT or SIGTERM. The folder is made
if it is not there; it holds the records, the logs and the token that every call
must show. One service at a time has a data folder.

It starts a worker beside it, which executes the tasks. On SIGTERM the service
ends; tasks that are running go on in the worker, and are taken up again by the
next service on that folder, an upgraded one too. The worker ends by itself when
it has nothing left. With --end-tasks it gives up after four seconds what it has,
and that is made again at the next start. Service and worker can be killed at any
moment without losing anything that was recorded.`,
		Example: `  lantern serve
  lantern serve --data /var/lib/lantern --listen 127.0.0.1:7641 --slots 16
  lantern serve --workers-listen 0.0.0.0:7641 --host service.example
  lantern serve --messages nats://messages-1:4222,nats://messages-2:4222,nats://messages-3:4222`,
		RunE: func(c *cobra.Command, _ []string) error {
			return a.serve(c.Context(), o, func(context.Context, *service.Service) error { return nil })
		},
	}
	o.register(c)
	c.Flags().StringVar(&o.data, "data", defaultData, "the data folder")
	return c
}

// serve runs a service, prints where it is, and has then done.
func (a *app) serve(ctx context.Context, o *serveOptions, then func(context.Context, *service.Service) error) error {
	if _, _, err := net.SplitHostPort(o.listen); err != nil {
		return &usageError{fmt.Errorf("--listen %s: write HOST:PORT, as in %s", o.listen, defaultListen)}
	}
	if o.slots < 0 {
		return &usageError{fmt.Errorf("--slots %d: write a number from 1", o.slots)}
	}
	keep := service.Keeping{Most: o.mostRuns, Newest: o.newestRuns}
	for _, age := range []struct {
		flag, text string
		into       *time.Duration
	}{{"--keep-logs", o.keepLogs, &keep.Logs}, {"--keep-runs", o.keepRuns, &keep.Runs}} {
		if age.text == "" {
			continue
		}
		length, err := definition.ParseLength(age.text)
		if err != nil || length == 0 {
			return &usageError{fmt.Errorf("%s %s: write a length of time, as in 90d", age.flag, age.text)}
		}
		*age.into = length.Duration()
	}
	if keep.Most < 0 || keep.Newest < 0 || keep.Most > 0 && keep.Most < keep.Newest {
		return &usageError{fmt.Errorf("--most-runs %d, --newest-runs %d: write numbers from 0, the second not above the first", keep.Most, keep.Newest)}
	}
	if o.price < 0 {
		return &usageError{fmt.Errorf("--price-per-hour %v: write a number from 0", o.price)}
	}
	if info, err := os.Stat(o.files); o.files != "" && (err != nil || !info.IsDir()) {
		return &usageError{fmt.Errorf("--files %s: there is no such folder; make it first", o.files)}
	}
	level := slog.LevelWarn
	if o.verbose {
		level = slog.LevelInfo
	}
	log := slog.New(slog.NewTextHandler(a.err, &slog.HandlerOptions{Level: level}))
	program, err := os.Executable()
	if err != nil {
		return fmt.Errorf("the service does not find its own program, which its worker runs too: %w", err)
	}
	own := []string{program, "worker"}
	if o.verbose {
		own = append(own, "--verbose")
	}
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	after := make(chan error, 1)
	started := false
	err = service.Run(ctx, service.Options{Data: o.data, Listen: o.listen, Hosts: o.hosts, Slots: o.slots, Files: o.files, Joining: o.joining, Messages: o.messages, Worker: own, EndTasks: o.endTasks, Keep: keep, Copies: o.copies, PerHour: o.price, Console: console.Files(), Version: Version(), Log: log},
		func(s *service.Service) {
			started = true
			data, err := filepath.Abs(o.data)
			if err != nil {
				data = o.data
			}
			leaveNote(s.Address, access.TokenFile(data))
			p := painter(a.out)
			fmt.Fprintf(a.out, "%s is at %s, its data in %s\n", p.strong("Wise Lantern"), p.strong(s.Address), data)
			if s.Joining != "" {
				fmt.Fprintf(a.out, "Workers of other machines join at %s\n", s.Joining)
			}
			fmt.Fprintf(a.out, "Sign in to the console, once, within ten minutes:\n  %s\n", s.SignInLink(personName()).Link)
			go func() {
				err := then(ctx, s)
				if err != nil {
					stop()
				}
				after <- err
			}()
		})
	if started {
		stop()
		if thenErr := <-after; err == nil && !errors.Is(thenErr, context.Canceled) {
			err = thenErr
		}
	}
	return err
}

func (a *app) consoleCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "console",
		Short: "Print a link that signs you in to the console",
		Long:  "Print a link that opens the console and signs its reader in. It works once, within ten minutes.",
		Example: `  lantern console
  xdg-open "$(lantern console)"`,
		RunE: func(c *cobra.Command, _ []string) error {
			service, err := a.client()
			if err != nil {
				return err
			}
			link, err := service.SignInLink(c.Context())
			if err != nil {
				return err
			}
			return a.print(link, func() error {
				_, err := fmt.Fprintln(a.out, link.Link)
				return err
			})
		},
	}
}
