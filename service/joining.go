package service

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"slices"
	"time"

	"github.com/nats-io/nats.go"

	"wiselantern/client"
	"wiselantern/service/broker"
	"wiselantern/service/dispatch"
	"wiselantern/service/engine"
	"wiselantern/service/store"
)

// Enter connects to the message server of a service on this machine by the folder of its
// workers, and again whenever that breaks.
func Enter(dir string, log *slog.Logger, more ...nats.Option) (*nats.Conn, error) {
	conn, err := broker.Enter(dir, append(lasting(log), more...)...)
	if err != nil {
		return nil, fmt.Errorf("no service answers at %s: %w", dir, err)
	}
	return conn, nil
}

// lasting are the options of connections that are made again.
func lasting(log *slog.Logger) []nats.Option {
	return []nats.Option{nats.MaxReconnects(-1), nats.ReconnectWait(100 * time.Millisecond), nats.ReconnectBufSize(-1), nats.PingInterval(dispatch.HelloEvery), nats.MaxPingsOutstanding(2),
		nats.DisconnectErrHandler(func(_ *nats.Conn, err error) {
			log.Info("the connection to the message server is lost; what runs goes on", "error", err)
		}),
		nats.ReconnectHandler(func(*nats.Conn) { log.Info("the connection to the message server is there again") }),
		nats.ErrorHandler(func(_ *nats.Conn, _ *nats.Subscription, err error) { log.Warn("message server", "error", err) })}
}

// Join connects to an outside message server, and again whenever that breaks.
func Join(m Messages, log *slog.Logger, more ...nats.Option) (*nats.Conn, error) {
	options := append(lasting(log), more...)
	if m.Credentials != "" {
		credentials, err := broker.Credentials(m.Credentials)
		if err != nil {
			return nil, err
		}
		options = append(options, credentials...)
	}
	conn, err := nats.Connect(m.URL, options...)
	if err != nil {
		return nil, fmt.Errorf("the message server at %s cannot be joined: %w; see that it runs there and that the credentials are right", m.Public(), err)
	}
	return conn, nil
}

// joining is where workers of other machines join.
func (x *exchange) joining() string {
	switch {
	case x.options.Messages.URL != "":
		return x.options.Messages.Public()
	case x.server.Address != "":
		return "tls://" + x.server.Address
	}
	return ""
}

// admitted are the public keys of workers that may join, by name.
func (x *exchange) admitted(ctx context.Context) (map[string]string, error) {
	rows, err := x.records.WorkerKeys(ctx)
	keys := map[string]string{}
	for _, row := range rows {
		keys[row.Name] = row.PublicKey
	}
	return keys, err
}

// errNoJoining says that no worker can join.
var errNoJoining = errors.New("no worker of another machine can join this service; start it with --workers-listen HOST:PORT")

// Admit lets a worker of another machine join.
func (x *exchange) Admit(ctx context.Context, name, person string) (client.Admitted, error) {
	if x.options.Messages.URL != "" {
		return client.Admitted{}, &engine.RefusedError{Reason: "workers join the message server at " + x.options.Messages.Public() + ", which has credentials of its own"}
	}
	if x.identity == nil {
		return client.Admitted{}, &engine.RefusedError{Reason: errNoJoining.Error()}
	}
	credentials, public, err := x.identity.NewCredentials(name)
	if err != nil {
		return client.Admitted{}, err
	}
	row := store.WorkerKey{Name: name, PublicKey: public, Created: store.At(time.Now()), CreatedBy: person}
	if err := x.heart.Record(ctx, func(w *store.Writer) { w.SetWorkerKey(row) }); err != nil {
		return client.Admitted{}, err
	}
	return client.Admitted{Worker: name, Address: x.joining(), Credentials: credentials}, x.readmit(ctx)
}

// Dismiss lets a worker join no more.
func (x *exchange) Dismiss(ctx context.Context, name string) error {
	if x.identity == nil {
		return errNoJoining
	}
	keys, err := x.admitted(ctx)
	if err != nil {
		return err
	}
	if keys[name] == "" {
		return fmt.Errorf("there is no worker %q that may join; there are %v", name, slices.Sorted(maps.Keys(keys)))
	}
	if err := x.heart.Record(ctx, func(w *store.Writer) { w.RemoveWorkerKey(name) }); err != nil {
		return err
	}
	return x.readmit(ctx)
}

func (x *exchange) readmit(ctx context.Context) error {
	keys, err := x.admitted(ctx)
	if err != nil {
		return err
	}
	return x.server.Admit(keys)
}

// Drain has a worker take no more work, or take it again.
func (x *exchange) Drain(name string, on bool) error { return x.office.Drain(name, on) }
