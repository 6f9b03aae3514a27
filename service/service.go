// Package service puts the rooms of the service together: records, engine,
// workers and the network interface, in one process on one data folder.
package service

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"net"
	"path/filepath"
	"runtime"
	"strings"
	"syscall"
	"time"

	"wiselantern/client"
	"wiselantern/service/access"
	"wiselantern/service/api"
	"wiselantern/service/archive"
	"wiselantern/service/engine"
	"wiselantern/service/lookout"
	"wiselantern/service/signals"
	"wiselantern/service/store"
)

// Options shape a service.
type Options struct {
	Data     string   // the data folder
	Listen   string   // host:port; with port 0 a free one is taken
	Hosts    []string // names besides loopback under which it may be asked for
	ByHand   bool     // nothing comes due by itself
	Files    string   // the folder of paths in waits and starts that are not absolute; "" is the one it runs in
	Slots    int      // attempts at once of the service's own worker; 0 is twice the number of processors, at least 4
	Joining  string   // host:port at which workers of other machines join; "" for none
	Messages Messages // an outside message server; none for the one within
	Worker   []string // the program and the arguments of the own worker's process; none for a worker within this process
	EndTasks bool     // when the service stops, what its own worker executes is given up
	Console  fs.FS
	Keep     Keeping
	Copies   string  // a folder to which everything is copied all the time; "" for none
	PerHour  float64 // what an hour of processor time costs; 0 for nobody knows
	Version  string
	Log      *slog.Logger
}

// Messages is an outside message server, or a cluster of several.
type Messages struct {
	URL         string // as in tls://messages-1:4222,tls://messages-2:4222; "" for none
	Credentials string // a file; "" for none
}

// Public is where it is, without names and passwords that may stand before it.
func (m Messages) Public() string {
	servers := strings.Split(m.URL, ",")
	for i, server := range servers {
		scheme, rest, found := strings.Cut(server, "://")
		if !found {
			scheme, rest = "", server
		} else {
			scheme += "://"
		}
		servers[i] = scheme + rest[strings.LastIndexByte(rest, '@')+1:]
	}
	return strings.Join(servers, ",")
}

// Service is a running service.
type Service struct {
	Address string // as in http://127.0.0.1:7640
	Joining string // where workers of other machines join, as in tls://127.0.0.1:7641; "" for nowhere

	api *api.API
}

// SignInLink makes an address that signs that person in once.
func (s *Service) SignInLink(person string) client.SignInLink { return s.api.SignInLink(person) }

// How long attempts that are being executed may take when the service stops,
// before they are given up and made again at the next start.
const patience = 4 * time.Second

// Run runs a service until ctx is done, and calls ready once it answers. When it
// returns, everything that it knew is recorded; that takes ten seconds at most.
func Run(ctx context.Context, o Options, ready func(*Service)) (err error) {
	heedMemoryLimit()
	if o.Slots == 0 {
		o.Slots = max(4, 2*runtime.NumCPU())
	}
	records, err := store.Open(ctx, o.Data)
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, records.Close()) }()
	if o.Copies != "" {
		copies, err := archive.Copy(records.Dir(), o.Copies, o.Log)
		if err != nil {
			return err
		}
		defer func() { err = errors.Join(err, copies.Close()) }()
	}
	listener, err := listen(o.Listen)
	if err != nil {
		return err
	}
	defer listener.Close()

	heart, err := engine.New(ctx, records, engine.Options{Now: time.Now, Log: o.Log, ByHand: o.ByHand})
	if err != nil {
		return err
	}
	if heart.Files, err = filepath.Abs(o.Files); err != nil {
		return err
	}
	eyes := signals.New(heart, signals.Options{Log: o.Log})
	heart.SetWatcher(eyes)
	parcels := &api.Parcels{Dir: filepath.Join(records.Dir(), "parcels")}
	exchange, err := openExchange(ctx, o, records, heart, parcels)
	if err != nil {
		return err
	}
	defer exchange.close()
	heart.SetSender(exchange.office)
	engineContext, stopEngine := context.WithCancel(context.Background())
	engineDone := make(chan struct{})
	go func() {
		defer close(engineDone)
		heart.Run(engineContext)
	}()
	eyesContext, closeEyes := context.WithCancel(context.Background())
	eyesDone := make(chan struct{})
	go func() {
		defer close(eyesDone)
		eyes.Run(eyesContext)
	}()
	watch := lookout.New(records, heart, time.Now)
	watchDone := make(chan struct{})
	go func() {
		defer close(watchDone)
		watch.Run(eyesContext, func() <-chan struct{} { return heart.Hub.Changes(engine.AllRuns) }, o.Log)
	}()
	keepDone := make(chan struct{})
	go func() {
		defer close(keepDone)
		o.Keep.keep(eyesContext, records, heart, o.Log)
	}()
	defer func() {
		closeEyes()
		<-eyesDone
		<-watchDone
		<-keepDone
		stopEngine()
		<-engineDone
	}()

	gate, err := access.NewGate(records, heart, time.Now)
	if err != nil {
		return err
	}
	care := &condition{data: records.Dir(), exchange: exchange, slowest: heart.Slowest, log: o.Log, ahead: time.Now().Round(0)}
	careContext, rest := context.WithCancel(context.Background())
	careDone := make(chan struct{})
	go func() {
		defer close(careDone)
		care.watch(careContext)
	}()
	defer func() {
		rest()
		<-careDone
	}()
	own, err := exchange.begin(ctx)
	if err != nil {
		return err
	}
	if err := heart.GoOn(ctx, exchange.gone); err != nil {
		return err
	}

	s := &Service{Address: "http://" + listener.Addr().String()}
	s.api = api.New(api.Options{Engine: heart, Store: records, Lookout: watch, Gate: gate, Parcels: parcels, Console: o.Console, KeepLogs: o.Keep.Logs, PerHour: o.PerHour, Hosts: o.Hosts, Address: s.Address, Version: o.Version, Log: o.Log,
		Crew: exchange, Faults: care.list, Workers: exchange.list})
	served := make(chan error, 1)
	go func() { served <- s.api.App().Listener(listener) }()
	own.run()
	s.Joining = exchange.joining()
	o.Log.Info("serving", "address", s.Address, "data", records.Dir(), "slots", o.Slots)
	ready(s)

	select {
	case <-ctx.Done():
	case err = <-served:
	}
	o.Log.Info("stopping: no more work is taken")
	exchange.office.Hush()
	s.api.Close()
	shut := make(chan error, 1)
	go func() { shut <- s.api.App().ShutdownWithTimeout(patience) }()
	own.leave(o.EndTasks)
	<-shut // what is still asked after that long is cut off
	return err
}

func listen(address string) (net.Listener, error) {
	listener, err := net.Listen("tcp", address)
	if errors.Is(err, syscall.EADDRINUSE) {
		return nil, fmt.Errorf("the address %s is in use; stop what listens there, or choose another with --listen HOST:PORT", address)
	}
	if err != nil {
		return nil, fmt.Errorf("the service cannot listen on %s: %w; give --listen as HOST:PORT", address, err)
	}
	return listener, nil
}
