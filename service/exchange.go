package service

import (
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"time"

	"github.com/nats-io/nats.go"

	"wiselantern/client"
	"wiselantern/service/api"
	"wiselantern/service/broker"
	"wiselantern/service/dispatch"
	"wiselantern/service/engine"
	"wiselantern/service/store"
)

// exchange is the message server, the service's end of it, and the service's own
// worker.
type exchange struct {
	options  Options
	heart    *engine.Engine
	records  *store.Store
	parcels  *api.Parcels
	server   *broker.Server
	conn     *nats.Conn
	office   *dispatch.Office
	identity *broker.Identity // shown to workers of other machines; nil if none may join
	name     string           // of the own worker
}

// WorkerDir is the folder of a service's own worker within its data folder.
func WorkerDir(data string) string { return filepath.Join(data, "worker") }

func openExchange(ctx context.Context, o Options, records *store.Store, heart *engine.Engine, parcels *api.Parcels) (x *exchange, err error) {
	x = &exchange{options: o, heart: heart, records: records, parcels: parcels, name: OwnWorker()}
	defer func() {
		if err != nil {
			x.close()
		}
	}()
	if err := x.connect(ctx); err != nil {
		return x, err
	}
	x.office, err = dispatch.Open(ctx, x.conn, dispatch.OfficeOptions{Recorder: heart, OnDisk: o.Messages.URL != "", Apart: o.Joining != "", Now: time.Now, Log: o.Log, Parcel: parcels.Piece,
		Keep: func(ctx context.Context, p dispatch.LogPiece) error {
			return records.Logs.AppendPacked(ctx, store.Packed{Of: logOf(p.AttemptID), First: p.First, Count: p.Count, Data: p.Data})
		},
		Grown: func(id dispatch.AttemptID) { records.Logs.Grown(logOf(id)) },
	})
	return x, err
}

// connect starts the message server, or connects to the one outside.
func (x *exchange) connect(ctx context.Context) (err error) {
	o, data := x.options, x.records.Dir()
	if o.Messages.URL != "" {
		if o.Joining != "" {
			return errors.New("with --messages workers join that message server; take --workers-listen out")
		}
		x.conn, err = Join(o.Messages, o.Log, nats.Name("service"))
		return err
	}
	// What of the streams a crash takes away is in the records, or on a worker's disk.
	settings := broker.Options{Dir: WorkerDir(data), Streams: filepath.Join(data, "messages"), Listen: o.Joining, Speech: dispatch.Speech, Log: o.Log}
	if o.Joining != "" {
		host, _, err := net.SplitHostPort(o.Joining)
		if err != nil {
			return fmt.Errorf("the address for workers %q is not HOST:PORT", o.Joining)
		}
		machine, _ := os.Hostname()
		if x.identity, err = broker.OpenIdentity(filepath.Join(data, "joining"), append([]string{host, machine, "localhost", "127.0.0.1", "::1"}, o.Hosts...)); err != nil {
			return err
		}
		settings.TLS = x.identity.Certificate
		if settings.Workers, err = x.admitted(ctx); err != nil {
			return err
		}
	}
	if x.server, err = broker.Start(settings); err != nil {
		return err
	}
	x.conn, err = x.server.Connect(nats.Name("service"))
	return err
}

func logOf(id dispatch.AttemptID) store.LogOf {
	return store.LogOf{Run: id.Run, Task: id.Task, Attempt: id.Attempt}
}

func (x *exchange) close() {
	if x.office != nil {
		x.office.Close()
	}
	if x.conn != nil {
		x.conn.Close()
	}
	if x.server != nil {
		x.server.Close()
	}
}

// OwnWorker is the name of a service's own worker: that of its machine.
func OwnWorker() string {
	name, err := os.Hostname()
	if err != nil {
		return "local"
	}
	return dispatch.NameOf(name)
}

// gone tells whether all workers of that name have said what they execute.
func (x *exchange) gone(name string) bool {
	return name == x.name || name == "" || name == oldName()
}

// oldName is what the own worker was called before names had rules.
func oldName() string {
	name, _ := os.Hostname()
	return name
}

func (x *exchange) list() (all []api.WorkerNow) {
	for _, w := range x.office.Workers() {
		now := api.WorkerNow{Holds: map[dispatch.AttemptID]bool{}}
		for _, h := range w.Holds {
			now.Holds[h.AttemptID] = !h.Started.IsZero()
		}
		now.Worker = client.Worker{Name: w.Name, Slots: w.Slots, Since: w.Since, Heard: w.Heard.UTC(), CPUs: w.CPUs, Load: w.Load, Memory: w.Memory, Total: w.Total,
			Queues: w.Queues, Labels: w.Labels, Draining: w.Draining, Silent: time.Since(w.Heard) > dispatch.SilentAfter, Version: w.Version}
		all = append(all, now)
	}
	return all
}
