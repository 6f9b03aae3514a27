package access

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"wiselantern/service/store"
)

// direct writes at once, as the engine does within its next commit.
type direct struct{ *store.Store }

func (d direct) Record(_ context.Context, write func(*store.Writer)) error {
	d.Writer.Begin()
	write(d.Writer)
	return d.Writer.Commit()
}

type clock struct{ now time.Time }

func (c *clock) time() time.Time { return c.now }

func gate(t *testing.T) (*Gate, *clock, *store.Store) {
	t.Helper()
	s, err := store.Open(t.Context(), t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { s.Close() })
	c := &clock{time.Date(2026, 3, 28, 6, 0, 0, 0, time.UTC)}
	g, err := NewGate(s, direct{s}, c.time)
	if err != nil {
		t.Fatal(err)
	}
	return g, c, s
}

func TestACodeWorksOnceAndNotForLong(t *testing.T) {
	g, c, _ := gate(t)
	code, expires := g.NewCode("kari")
	if !expires.Equal(c.now.Add(10 * time.Minute)) {
		t.Errorf("it expires at %s", expires)
	}
	secret, session, err := g.UseCode(t.Context(), code)
	if err != nil || session.Person != "kari" {
		t.Fatalf("%+v %v", session, err)
	}
	if _, _, err := g.UseCode(t.Context(), code); !errors.Is(err, ErrDenied) {
		t.Errorf("a second time: %v", err)
	}
	late, _ := g.NewCode("kari")
	c.now = c.now.Add(10*time.Minute + time.Second)
	if _, _, err := g.UseCode(t.Context(), late); !errors.Is(err, ErrDenied) {
		t.Errorf("too late: %v", err)
	}
	if _, _, err := g.UseCode(t.Context(), ""); !errors.Is(err, ErrDenied) {
		t.Errorf("no code at all: %v", err)
	}
	if again, err := g.Session(t.Context(), secret); err != nil || again.Person != "kari" {
		t.Errorf("%+v %v", again, err)
	}
}

func TestASessionEnds(t *testing.T) {
	g, c, s := gate(t)
	secret, _, err := g.Open(t.Context(), "kari")
	if err != nil {
		t.Fatal(err)
	}
	other, _, err := g.Open(t.Context(), "ola")
	if err != nil {
		t.Fatal(err)
	}
	if err := g.Close(t.Context(), secret); err != nil {
		t.Fatal(err)
	}
	if _, err := g.Session(t.Context(), secret); !errors.Is(err, ErrDenied) {
		t.Errorf("after it was closed: %v", err)
	}
	again, err := NewGate(s, direct{s}, c.time) // a restart
	if err != nil {
		t.Fatal(err)
	}
	if _, err := again.Session(t.Context(), other); err != nil {
		t.Errorf("a session does not outlive a restart: %v", err)
	}
	c.now = c.now.Add(SessionLife + time.Second)
	if _, err := again.Session(t.Context(), other); !errors.Is(err, ErrDenied) {
		t.Errorf("after thirty days: %v", err)
	}
	if _, err := again.Session(t.Context(), "guess"); !errors.Is(err, ErrDenied) {
		t.Errorf("a guess: %v", err)
	}
}

func TestSecretsAreNotKept(t *testing.T) {
	g, _, s := gate(t)
	secret, _, err := g.Open(t.Context(), "kari")
	if err != nil {
		t.Fatal(err)
	}
	files, err := filepath.Glob(filepath.Join(s.Dir(), "*"))
	if err != nil || len(files) < 3 {
		t.Fatalf("%v %v", files, err)
	}
	for _, name := range files {
		text, err := os.ReadFile(name)
		if err != nil || strings.Contains(string(text), secret) {
			t.Errorf("the secret of a session stands in %s (%v)", name, err)
		}
	}
}

func TestTheTokenIsMadeOnceAndGuarded(t *testing.T) {
	g, c, s := gate(t)
	name := TokenFile(s.Dir())
	text, err := os.ReadFile(name)
	if err != nil {
		t.Fatal(err)
	}
	token := strings.TrimSpace(string(text))
	if !g.Token(token) || g.Token(token+"x") || g.Token("") || g.Token(token[:len(token)-1]) {
		t.Error("it takes another token, or not its own")
	}
	if err := os.Chmod(name, 0o644); err != nil { // copied about
		t.Fatal(err)
	}
	if _, err := NewGate(s, direct{s}, c.time); err != nil {
		t.Fatal(err)
	}
	if info, err := os.Stat(name); err != nil || info.Mode() != 0o600 {
		t.Errorf("others may read it: %v %v", info.Mode(), err)
	}
	if err := os.WriteFile(name, []byte("short\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	if _, err := NewGate(s, direct{s}, c.time); err == nil || !strings.Contains(err.Error(), "remove the file to have a new one made") {
		t.Errorf("a token that can be guessed: %v", err)
	}
}

// A link opens one question, in one name, until it is too old; nothing of it can be
// changed, and the key of another service does not fit.
func TestALinkIsSigned(t *testing.T) {
	now := time.Date(2026, 3, 28, 6, 0, 0, 0, time.UTC)
	gate := &Gate{token: "a token of twenty letters", now: func() time.Time { return now }}
	want := Link{Run: "storm:1", Task: "alarm", Attempt: 2, Person: "duty", Expires: now.Add(time.Hour)}
	code := gate.SignLink(want)
	if got, err := gate.ReadLink(code); err != nil || got != want {
		t.Fatalf("%+v, %v", got, err)
	}
	for i := range code {
		for _, letter := range []byte{'A', 'b', '.', '-'} {
			changed := code[:i] + string(letter) + code[i+1:]
			if changed == code {
				continue
			}
			if got, err := gate.ReadLink(changed); err == nil && got != want { // the last letter has bits that say nothing
				t.Fatalf("changed at %d it opens %+v", i, got)
			}
		}
	}
	other := &Gate{token: "another token of twenty letters", now: gate.now}
	if _, err := other.ReadLink(code); err == nil {
		t.Error("another service's key fits")
	}
	now = now.Add(2 * time.Hour)
	if _, err := gate.ReadLink(code); err == nil {
		t.Error("it opens when it is too old")
	}
}
