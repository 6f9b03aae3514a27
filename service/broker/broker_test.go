package broker

import (
	"crypto/tls"
	"errors"
	"log/slog"
	"net"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/nats-io/nats.go"
)

func start(t *testing.T, o Options) *Server {
	t.Helper()
	dir := t.TempDir()
	// A long path, beyond what the address of a socket can hold.
	o.Dir, o.Streams, o.Log = filepath.Join(dir, strings.Repeat("upland-", 20)), filepath.Join(dir, "messages"), slog.New(slog.DiscardHandler)
	s, err := Start(o)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(s.Close)
	return s
}

func TestTheDoorIsForThisMachineAlone(t *testing.T) {
	s := start(t, Options{})
	if s.Address != "" || s.server.Addr() != nil {
		t.Errorf("it listens at %s, and nobody asked for that", s.server.Addr())
	}
	info, err := os.Stat(filepath.Join(s.options.Dir, doorName))
	if err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("%v, %v", info.Mode(), err)
	}
	inside, err := s.Connect()
	if err != nil {
		t.Fatal(err)
	}
	defer inside.Close()
	nc, err := Enter(s.options.Dir)
	if err != nil {
		t.Fatal(err)
	}
	defer nc.Close()
	sub, err := inside.SubscribeSync("gauge")
	if err != nil {
		t.Fatal(err)
	}
	if err := inside.Flush(); err != nil {
		t.Fatal(err)
	}
	if err := nc.Publish("gauge", []byte("2.4")); err != nil {
		t.Fatal(err)
	}
	if m, err := sub.NextMsg(5 * time.Second); err != nil || string(m.Data) != "2.4" {
		t.Errorf("%v, %v", m, err)
	}
	if _, err := nats.Connect("nats://door:1", nats.SetCustomDialer(dialer{s.options.Dir}), nats.UserInfo(insider, "guessed")); !errors.Is(err, nats.ErrAuthorization) {
		t.Errorf("a wrong key opens the door: %v", err)
	}
	if _, err := nats.Connect("nats://door:1", nats.SetCustomDialer(dialer{s.options.Dir})); err == nil {
		t.Error("no key opens the door")
	}
}

// join connects with a file of credentials.
func join(t *testing.T, address, credentials string) (*nats.Conn, error) {
	t.Helper()
	file := filepath.Join(t.TempDir(), "credentials")
	if err := os.WriteFile(file, []byte(credentials), 0o600); err != nil {
		t.Fatal(err)
	}
	options, err := Credentials(file)
	if err != nil {
		return nil, err
	}
	return nats.Connect("tls://"+address, append(options, nats.NoReconnect(), nats.CustomInboxPrefix("_INBOX.field-1"))...)
}

func speech(name string) (says, hears []string) {
	return []string{"lantern.report." + name}, []string{"lantern.recorded." + name, "_INBOX." + name + ".>"}
}

func TestWorkersJoinWithCredentialsOfTheirOwn(t *testing.T) {
	dir := t.TempDir()
	identity, err := OpenIdentity(dir, []string{"127.0.0.1", "service.example"})
	if err != nil {
		t.Fatal(err)
	}
	again, err := OpenIdentity(dir, []string{"127.0.0.1"})
	if err != nil || string(again.authority) != string(identity.authority) {
		t.Errorf("its authority changed: %v", err)
	}
	credentials, key, err := identity.NewCredentials("field-1")
	if err != nil {
		t.Fatal(err)
	}
	stranger, _, err := identity.NewCredentials("field-1")
	if err != nil {
		t.Fatal(err)
	}
	s := start(t, Options{Listen: "127.0.0.1:0", TLS: again.Certificate, Workers: map[string]string{"field-1": key}, Speech: speech})
	if _, err := join(t, s.Address, stranger); err == nil {
		t.Error("a stranger joins")
	}
	for name, bad := range map[string]string{"none": "", "cut": credentials[:len(credentials)/2], "bent": strings.Replace(credentials, "\nSU", "\nSX", 1)} {
		if _, err := join(t, s.Address, bad); err == nil {
			t.Errorf("%s credentials are taken", name)
		}
	}
	if _, err := nats.Connect("nats://"+s.Address, nats.Secure(&tls.Config{MinVersion: tls.VersionTLS13})); err == nil {
		t.Error("whoever does not know its authority joins")
	}
	refused := make(chan error, 8)
	nc, err := join(t, s.Address, credentials)
	if err != nil {
		t.Fatal(err)
	}
	defer nc.Close()
	nc.SetErrorHandler(func(_ *nats.Conn, _ *nats.Subscription, err error) { refused <- err })
	for _, subject := range []string{"lantern.report.field-2", "lantern.stop", "$JS.API.STREAM.DELETE.LANTERN-ORDERS", "anything"} {
		if err := nc.Publish(subject, nil); err != nil {
			t.Fatal(err)
		}
		if err := <-refused; !strings.Contains(strings.ToLower(err.Error()), "permissions violation") {
			t.Errorf("to say something to %s: %v", subject, err)
		}
	}
	for _, subject := range []string{"lantern.recorded.field-2", "_INBOX.>", ">"} {
		if _, err := nc.SubscribeSync(subject); err != nil {
			t.Fatal(err)
		}
		if err := <-refused; !strings.Contains(strings.ToLower(err.Error()), "permissions violation") {
			t.Errorf("to hear %s: %v", subject, err)
		}
	}
	// What is its own to say and to hear.
	if _, err := nc.SubscribeSync("lantern.recorded.field-1"); err != nil {
		t.Fatal(err)
	}
	if err := nc.Publish("lantern.report.field-1", nil); err != nil {
		t.Fatal(err)
	}
	if err := nc.Flush(); err != nil || len(refused) > 0 {
		t.Errorf("%v, %d refusals", err, len(refused))
	}
	// Dismissed, its connection is cut.
	if err := s.Admit(map[string]string{}); err != nil {
		t.Fatal(err)
	}
	for deadline := time.Now().Add(5 * time.Second); !nc.IsClosed(); time.Sleep(10 * time.Millisecond) {
		if time.Now().After(deadline) {
			t.Fatal("a worker that was dismissed stays")
		}
	}
	if _, err := join(t, s.Address, credentials); err == nil {
		t.Error("a worker that was dismissed joins")
	}
}

func TestAnAddressInUseIsTold(t *testing.T) {
	taken, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer taken.Close()
	dir := t.TempDir()
	identity, err := OpenIdentity(dir, nil)
	if err != nil {
		t.Fatal(err)
	}
	for _, listen := range []string{taken.Addr().String(), "nowhere", "127.0.0.1:port"} {
		if s, err := Start(Options{Dir: dir, Streams: dir, Listen: listen, TLS: identity.Certificate, Log: slog.New(slog.DiscardHandler)}); err == nil {
			s.Close()
			t.Errorf("it starts at %s", listen)
		}
	}
}
