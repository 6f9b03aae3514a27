// Package broker is the message server that the service carries in itself: NATS with
// JetStream, for the service and the workers on its machine without a port, and for
// workers of other machines over TLS.
//
// It may import libraries only. What it keeps true: nothing listens on the network
// unless somebody asked for it; who comes without a credential is not let in.
package broker

import (
	"crypto/rand"
	"crypto/tls"
	"encoding/hex"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/nats-io/nats-server/v2/server"
	"github.com/nats-io/nats.go"
)

// Options shape a server.
type Options struct {
	Dir     string            // its folder, which is made; the door and the key of this machine's workers are in it
	Streams string            // the folder of what is kept on disk
	Listen  string            // host:port for workers of other machines; "" for none
	TLS     tls.Certificate   // of that address
	Workers map[string]string // public keys of workers that may join, by their name
	Speech  Speech            // of such a worker
	Log     *slog.Logger
}

// Speech tells the subjects to which a worker of that name may speak, and those on which
// it may hear.
type Speech func(name string) (says, hears []string)

// Server is a running message server.
type Server struct {
	Address string // of other machines' workers, host:port; "" for none

	options Options
	server  *server.Server
	config  *server.Options
	key     string
	door    net.Listener
}

// MaxMessage is the most that a message may have, in bytes.
const MaxMessage = 8 << 20

const startTime = 20 * time.Second

// Start starts a server.
func Start(o Options) (*Server, error) {
	if err := os.MkdirAll(o.Dir, 0o700); err != nil {
		return nil, fmt.Errorf("the folder of the message server cannot be made: %w", err)
	}
	key, err := keyOf(o.Dir)
	if err != nil {
		return nil, fmt.Errorf("the key of the workers of this machine cannot be written: %w", err)
	}
	s := &Server{options: o, key: key}
	s.config = &server.Options{ServerName: "lantern", DontListen: o.Listen == "", JetStream: true, StoreDir: o.Streams, MaxPayload: MaxMessage, NoSigs: true, NoLog: true,
		JetStreamMaxMemory: 4 << 30, JetStreamMaxStore: 64 << 30, MaxPending: 256 << 20, Nkeys: nkeysOf(o.Workers, o.Speech)}
	s.config.Users = []*server.User{{Username: insider, Password: key}}
	if o.Listen != "" {
		if err := free(o.Listen); err != nil {
			return nil, err
		}
		host, port, err := net.SplitHostPort(o.Listen)
		if err != nil {
			return nil, err
		}
		s.config.Host = host
		if s.config.Port, err = strconv.Atoi(port); err != nil {
			return nil, fmt.Errorf("write the port of %s as a number", o.Listen)
		}
		if s.config.Port == 0 {
			s.config.Port = server.RANDOM_PORT
		}
		s.config.TLSConfig = &tls.Config{Certificates: []tls.Certificate{o.TLS}, MinVersion: tls.VersionTLS13}
		s.config.TLSTimeout = 10
	}
	if s.server, err = server.NewServer(s.config); err != nil {
		return nil, fmt.Errorf("the message server cannot be set up: %w", err)
	}
	s.server.SetLoggerV2(quiet{o.Log}, false, false, false)
	s.server.Start()
	if !s.server.ReadyForConnections(startTime) {
		s.Close()
		return nil, fmt.Errorf("the message server does not start; is %s in use, or the folder %s not writable?", o.Listen, o.Streams)
	}
	if o.Listen != "" {
		s.Address = s.server.Addr().String()
	}
	if s.door, err = openDoor(o.Dir); err != nil {
		s.Close()
		return nil, fmt.Errorf("the door for the workers of this machine cannot be opened: %w", err)
	}
	go s.letIn()
	return s, nil
}

// free tells what is wrong with an address to listen at; the server itself would only
// not come to listen there.
func free(address string) error {
	l, err := net.Listen("tcp", address)
	if err != nil {
		return fmt.Errorf("workers cannot join at %s: %w; name another address with --workers-listen HOST:PORT", address, err)
	}
	return l.Close()
}

// insider is the name under which the service and the workers of its machine come in.
const insider = "inside"

// Connect connects within the process.
func (s *Server) Connect(options ...nats.Option) (*nats.Conn, error) {
	return nats.Connect("", append(options, nats.InProcessServer(s.server), nats.UserInfo(insider, s.key))...)
}

// Admit says anew which workers of other machines may join: their public keys by
// their names. Connections of others are cut.
func (s *Server) Admit(workers map[string]string) error {
	next := s.config.Clone()
	next.Nkeys = nkeysOf(workers, s.options.Speech)
	if err := s.server.ReloadOptions(next); err != nil {
		return fmt.Errorf("the workers that may join cannot be set: %w", err)
	}
	s.config = next
	return nil
}

// Close ends the server and all connections.
func (s *Server) Close() {
	if s.door != nil {
		s.door.Close()
	}
	s.server.Shutdown()
	s.server.WaitForShutdown()
}

// nkeysOf are the accounts of workers.
func nkeysOf(workers map[string]string, speech Speech) (out []*server.NkeyUser) {
	for name, key := range workers {
		says, hears := speech(name)
		out = append(out, &server.NkeyUser{Nkey: key, Permissions: &server.Permissions{Publish: &server.SubjectPermission{Allow: says}, Subscribe: &server.SubjectPermission{Allow: hears}}})
	}
	slices.SortFunc(out, func(a, b *server.NkeyUser) int { return strings.Compare(a.Nkey, b.Nkey) })
	return out
}

// keyOf is the key of the workers of this machine, which is made at the first start.
func keyOf(dir string) (string, error) {
	name := filepath.Join(dir, "key")
	text, err := os.ReadFile(name)
	if err == nil && len(text) > 0 {
		return string(text), nil
	}
	var random [24]byte
	_, _ = rand.Read(random[:])
	key := hex.EncodeToString(random[:])
	err = os.WriteFile(name+".part", []byte(key), 0o600)
	return key, errors.Join(err, os.Rename(name+".part", name))
}

// quiet passes on what of the message server's words somebody should read.
type quiet struct{ log *slog.Logger }

func (q quiet) Noticef(string, ...any) {}
func (q quiet) Debugf(string, ...any)  {}
func (q quiet) Tracef(string, ...any)  {}
func (q quiet) Warnf(format string, v ...any) {
	q.log.Debug("message server: " + fmt.Sprintf(format, v...))
}
func (q quiet) Errorf(format string, v ...any) {
	q.log.Warn("message server: " + fmt.Sprintf(format, v...))
}
func (q quiet) Fatalf(format string, v ...any) {
	q.log.Error("message server: " + fmt.Sprintf(format, v...))
}
