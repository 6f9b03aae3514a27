// Package access decides who may use the service: whoever has the token, or a
// session that was opened with it.
//
// It may import service/store. What it keeps true: the token's file can be read
// by its owner alone; a sign-in code works once and for ten minutes; secrets
// are compared in constant time and sessions are kept as hashes.
package access

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"wiselantern/service/store"
)

// How long codes and sessions last.
const (
	CodeLife    = 10 * time.Minute
	SessionLife = 30 * 24 * time.Hour
)

// ErrDenied says that what was shown opens nothing.
var ErrDenied = errors.New("denied")

// Recorder writes through the one writer.
type Recorder interface {
	Record(context.Context, func(*store.Writer)) error
}

// Gate knows the token, the codes and the sessions.
type Gate struct {
	token    string
	store    *store.Store
	recorder Recorder
	now      func() time.Time

	mu    sync.Mutex
	codes map[string]code // by hash
}

type code struct {
	person  string
	expires time.Time
}

// TokenFile is the file of the token in a data folder.
func TokenFile(dir string) string { return filepath.Join(dir, "token") }

// NewGate reads the token of the data folder, or makes one.
func NewGate(s *store.Store, r Recorder, now func() time.Time) (*Gate, error) {
	token, err := readOrMake(TokenFile(s.Dir()))
	if err != nil {
		return nil, err
	}
	return &Gate{token: token, store: s, recorder: r, now: now, codes: map[string]code{}}, nil
}

func readOrMake(name string) (string, error) {
	text, err := os.ReadFile(name)
	if err == nil {
		if token := strings.TrimSpace(string(text)); len(token) >= 20 {
			// The file may have been copied with looser permissions.
			return token, os.Chmod(name, 0o600)
		}
		return "", fmt.Errorf("the token in %s is shorter than 20 letters; remove the file to have a new one made", name)
	}
	if !errors.Is(err, fs.ErrNotExist) {
		return "", fmt.Errorf("the token cannot be read: %w", err)
	}
	token := rand.Text()
	if err := os.WriteFile(name, []byte(token+"\n"), 0o600); err != nil {
		return "", fmt.Errorf("the token cannot be written: %w", err)
	}
	return token, nil
}

func hash(secret string) string {
	sum := sha256.Sum256([]byte(secret))
	return hex.EncodeToString(sum[:])
}

// Token tells whether text is the token.
func (g *Gate) Token(text string) bool {
	a, b := sha256.Sum256([]byte(text)), sha256.Sum256([]byte(g.token))
	return subtle.ConstantTimeCompare(a[:], b[:]) == 1
}

// NewCode makes a code that signs that person in once.
func (g *Gate) NewCode(person string) (text string, expires time.Time) {
	g.mu.Lock()
	defer g.mu.Unlock()
	now := g.now()
	for h, c := range g.codes {
		if now.After(c.expires) {
			delete(g.codes, h)
		}
	}
	text, expires = rand.Text(), now.Add(CodeLife)
	g.codes[hash(text)] = code{person, expires}
	return text, expires
}

// UseCode takes a code and opens a session.
func (g *Gate) UseCode(ctx context.Context, text string) (secret string, s store.Session, err error) {
	g.mu.Lock()
	c, ok := g.codes[hash(text)]
	delete(g.codes, hash(text))
	g.mu.Unlock()
	if !ok || g.now().After(c.expires) {
		return "", s, ErrDenied
	}
	return g.Open(ctx, c.person)
}

// Open opens a session for a person who has shown the token or a code. The
// secret is for the person's browser alone.
func (g *Gate) Open(ctx context.Context, person string) (secret string, s store.Session, err error) {
	secret = rand.Text()
	now := g.now()
	s = store.Session{Hash: hash(secret), Person: person, Created: store.At(now), Expires: store.At(now.Add(SessionLife))}
	return secret, s, g.recorder.Record(ctx, func(w *store.Writer) { w.AddSession(s) })
}

// Session is the session of that secret.
func (g *Gate) Session(ctx context.Context, secret string) (store.Session, error) {
	s, err := g.store.Session(ctx, hash(secret))
	if errors.Is(err, store.ErrNotFound) || err == nil && g.now().After(s.Expires.Time()) {
		return s, ErrDenied
	}
	return s, err
}

// NewFeed makes a key that opens the calendar of what is due, and nothing else.
func (g *Gate) NewFeed(ctx context.Context, person string) (key string, err error) {
	key = rand.Text()
	return key, g.recorder.Record(ctx, func(w *store.Writer) {
		w.AddFeed(store.Feed{Hash: hash(key), Person: person, Created: store.At(g.now())})
	})
}

// Feed tells whether a key opens the calendar.
func (g *Gate) Feed(ctx context.Context, key string) (bool, error) {
	return g.store.HasFeed(ctx, hash(key))
}

// CloseFeeds makes all keys of the calendar worthless.
func (g *Gate) CloseFeeds(ctx context.Context) error {
	return g.recorder.Record(ctx, (*store.Writer).RemoveFeeds)
}

// Close ends the session of that secret.
func (g *Gate) Close(ctx context.Context, secret string) error {
	return g.recorder.Record(ctx, func(w *store.Writer) { w.RemoveSession(hash(secret)) })
}
