package client_test

import (
	"context"
	"errors"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"wiselantern/client"
)

// Whatever is at the other end, the error says who can act and how.
func TestErrorsAreOfThreeKinds(t *testing.T) {
	answers := http.NewServeMux()
	answers.HandleFunc("/api/health", func(w http.ResponseWriter, _ *http.Request) {
		_, _ = w.Write([]byte("<html>another program</html>"))
	})
	answers.HandleFunc("/api/workflows", func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "application/problem+json")
		w.WriteHeader(http.StatusUnprocessableEntity)
		_, _ = w.Write([]byte(`{"status": 422, "title": "Unprocessable", "detail": "two mistakes", "errors": [{"message": "one"}, {"message": "two"}]}`))
	})
	answers.HandleFunc("/api/capacities", func(w http.ResponseWriter, r *http.Request) {
		if r.Header.Get("Authorization") != "Bearer token" || r.Header.Get("Lantern-Person") != "kari" {
			http.Error(w, "no", http.StatusBadGateway)
			return
		}
		_, _ = w.Write([]byte(`{"capacities": [{"name": "store", "units": 2}]}`))
	})
	answers.HandleFunc("/api/stream", func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "text/event-stream")
		_, _ = w.Write([]byte(": hello\n\nid: 7\nevent: change\ndata: {\"id\": 7,\ndata:  \"run\": \"a:1\", \"after\": \"running\"}\n\nevent: other\ndata: {}\n\n"))
	})
	server := httptest.NewServer(answers)
	defer server.Close()
	ctx := context.Background()
	c := client.New(server.URL+"/", "token", "kari")

	var problem *client.Problem
	if _, err := c.Health(ctx); !errors.As(err, &problem) || !strings.Contains(err.Error(), "is a lantern service there?") {
		t.Errorf("another program: %v", err)
	}
	if _, err := c.Workflows(ctx); !errors.As(err, &problem) || problem.Status != 422 || err.Error() != "two mistakes\none\ntwo" {
		t.Errorf("a problem: %v", err)
	}
	if list, err := c.Capacities(ctx); err != nil || len(list) != 1 || list[0].Units != 2 {
		t.Errorf("an answer: %+v %v", list, err)
	}
	var gone *client.Unreachable
	var changes []client.Change
	err := c.Follow(ctx, "", -1, func(change client.Change) error { changes = append(changes, change); return nil })
	if !errors.As(err, &gone) || len(changes) != 1 || changes[0].ID != 7 || changes[0].After != "running" {
		t.Errorf("a stream that breaks off: %+v %v", changes, err)
	}
	short, stop := context.WithTimeout(ctx, 50*time.Millisecond)
	defer stop()
	away := client.New("http://127.0.0.1:1", "", "")
	if err := away.WaitUntilUp(short); !errors.As(err, &gone) || !strings.Contains(err.Error(), "lantern serve") {
		t.Errorf("nobody there: %v", err)
	}
	cancelled, cancel := context.WithCancel(ctx)
	cancel()
	if _, err := c.Health(cancelled); !errors.Is(err, context.Canceled) {
		t.Errorf("the caller gave up: %v", err)
	}
}
