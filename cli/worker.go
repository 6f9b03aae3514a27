package cli

import (
	"context"
	"fmt"
	"log/slog"
	"os"
	"os/signal"
	"path/filepath"
	"syscall"

	"github.com/nats-io/nats.go"
	"github.com/spf13/cobra"

	"wiselantern/service"
	"wiselantern/service/broker"
	"wiselantern/service/dispatch"
	"wiselantern/service/store"
	"wiselantern/worker/station"
)

func (a *app) workerCommand() *cobra.Command {
	beside, slots, verbose := "", 0, false
	c := &cobra.Command{
		Use:    "worker",
		Short:  "Run a worker",
		Hidden: true,
		RunE: func(c *cobra.Command, _ []string) error {
			level := slog.LevelWarn
			if verbose {
				level = slog.LevelInfo
			}
			log := slog.New(slog.NewTextHandler(a.err, &slog.HandlerOptions{Level: level}))
			return a.workBeside(c.Context(), beside, slots, log)
		},
	}
	c.Flags().StringVar(&beside, "beside", "", "the data folder of the service that it belongs to")
	c.Flags().IntVar(&slots, "slots", 4, "attempts at once")
	c.Flags().BoolVar(&verbose, "verbose", false, "log what the worker does to standard error")
	return c
}

// workBeside is the life of the worker of a service on this machine.
func (a *app) workBeside(ctx context.Context, data string, slots int, log *slog.Logger) error {
	if info, err := os.Stat(data); err != nil || !info.IsDir() {
		return &usageError{fmt.Errorf("--beside %s: there is no such folder", data)}
	}
	logs, err := store.OpenLogs(ctx, filepath.Join(data, "logs.db"))
	if err != nil {
		return err
	}
	defer logs.Close()
	dir := service.WorkerDir(data)
	conn, err := broker.Enter(dir, connection(log)...)
	if err != nil {
		return fmt.Errorf("the worker finds no service on %s: %w", data, err)
	}
	defer conn.Close()
	return work(ctx, station.Options{Name: service.OwnWorker(), Version: Version(), Dir: dir, Slots: slots, Queues: []string{dispatch.DefaultQueue}, Local: true,
		Logs: logs, Conn: conn, Log: log})
}

// connection is how a worker connects: it never gives up.
func connection(log *slog.Logger) []nats.Option {
	return []nats.Option{nats.Name("worker"), nats.MaxReconnects(-1), nats.ReconnectWait(reconnectAfter), nats.ReconnectJitter(reconnectAfter, reconnectAfter), nats.ReconnectBufSize(-1),
		nats.PingInterval(dispatch.HelloEvery), nats.MaxPingsOutstanding(2),
		nats.DisconnectErrHandler(func(_ *nats.Conn, err error) {
			log.Info("the connection to the service is lost; what runs goes on", "error", err)
		}),
		nats.ReconnectHandler(func(*nats.Conn) { log.Info("the connection to the service is there again") }),
		nats.ErrorHandler(func(_ *nats.Conn, _ *nats.Subscription, err error) { log.Warn("message server", "error", err) })}
}

// work runs a worker. The first signal has it end when it has nothing left, the second
// gives up what it has.
func work(ctx context.Context, o station.Options) error {
	drain, stop := context.WithCancel(ctx)
	defer stop()
	urge := make(chan struct{})
	signals := make(chan os.Signal, 4)
	signal.Notify(signals, syscall.SIGTERM, syscall.SIGINT)
	defer signal.Stop(signals)
	go func() {
		<-signals
		stop()
		<-signals
		close(urge)
	}()
	return station.Live(drain, urge, o)
}
