package demo

import (
	"bytes"
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"time"
)

// Partner is the made-up weather office: a service of its own, which announces
// storms by a hook and is asked for forecasts. As partners are, it is slow at first,
// then ready, and broken when it is asked again much later.
type Partner struct {
	Slow  time.Duration // a forecast takes so long from when it was first asked for
	Ready time.Duration // and is there for so long

	mu    sync.Mutex
	asked map[string]time.Time // by basin: when a forecast was first asked for
}

// ServeHTTP answers GET /forecast/BASIN.
func (p *Partner) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	basin, ok := strings.CutPrefix(r.URL.Path, "/forecast/")
	if !ok || basin == "" {
		http.NotFound(w, r)
		return
	}
	p.mu.Lock()
	if p.asked == nil {
		p.asked = map[string]time.Time{}
	}
	if p.asked[basin].IsZero() {
		p.asked[basin] = time.Now()
	}
	since := time.Since(p.asked[basin])
	p.mu.Unlock()
	answer := func(status int, body map[string]any) {
		w.Header().Set("Content-Type", "application/json")
		w.WriteHeader(status)
		_ = json.NewEncoder(w).Encode(body) // an asker that is gone needs no answer
	}
	switch {
	case since < p.Slow/2:
		answer(http.StatusServiceUnavailable, map[string]any{"ready": false, "why": "the model has not begun"})
	case since < p.Slow:
		answer(http.StatusOK, map[string]any{"ready": false, "done": fmt.Sprintf("%d%%", 100*since/p.Slow)})
	case since < p.Slow+p.Ready:
		answer(http.StatusOK, map[string]any{"ready": true, "basin": basin, "rain_mm": 20 + 3*len(basin)})
	default:
		http.Error(w, "the archive is broken", http.StatusInternalServerError)
	}
}

// Warning is what the partner announces.
type Warning struct {
	Bulletin string  `json:"bulletin"`
	Kind     string  `json:"kind"`
	Basin    string  `json:"basin"`
	Level    float64 `json:"level"`
}

// Announce posts a warning to a hook, signed with its secret as the hook asks.
func Announce(ctx context.Context, hook, secret string, w Warning, now time.Time) error {
	body, err := json.Marshal(w)
	if err != nil {
		return err
	}
	request, err := http.NewRequestWithContext(ctx, http.MethodPost, hook, bytes.NewReader(body))
	if err != nil {
		return err
	}
	stamp := strconv.FormatInt(now.Unix(), 10)
	mac := hmac.New(sha256.New, []byte(secret))
	mac.Write([]byte(stamp + "."))
	mac.Write(body)
	request.Header.Set("Content-Type", "application/json")
	request.Header.Set("Lantern-Timestamp", stamp)
	request.Header.Set("Lantern-Signature", hex.EncodeToString(mac.Sum(nil)))
	response, err := http.DefaultClient.Do(request)
	if err != nil {
		return err
	}
	defer response.Body.Close()
	if response.StatusCode >= 300 {
		text, _ := io.ReadAll(io.LimitReader(response.Body, 1000)) // what it says is all that is known
		return fmt.Errorf("the hook answered %s: %s", response.Status, text)
	}
	return nil
}

// ListenAsPartner opens the port of the partner: the one that the project was written
// with, so that a demo that is started again finds it.
func (p Place) ListenAsPartner() (net.Listener, error) {
	name := filepath.Join(p.Dir, "partner")
	if text, err := os.ReadFile(name); err == nil {
		listener, err := net.Listen("tcp", strings.TrimSpace(string(text)))
		if err != nil {
			return nil, fmt.Errorf("the weather office of the example listens on %s, and that is taken: %w; stop what is there, or begin anew with another --dir", strings.TrimSpace(string(text)), err)
		}
		return listener, nil
	}
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	if err = os.MkdirAll(p.Dir, 0o755); err == nil {
		err = os.WriteFile(name, []byte(listener.Addr().String()+"\n"), 0o644)
	}
	return listener, err
}

// Scan drops a scan of a gauge board, written slowly as a slow line does, into the
// folder that is watched for them.
func (p Place) Scan(ctx context.Context, station string, now time.Time, pause time.Duration) error {
	folder := filepath.Join(p.River(), "scans")
	if err := os.MkdirAll(folder, 0o755); err != nil {
		return err
	}
	file, err := os.Create(filepath.Join(folder, now.UTC().Format("2006-01-02T150405")+"-"+station+".txt"))
	if err != nil {
		return err
	}
	defer file.Close()
	for line := range 6 {
		if _, err := fmt.Fprintf(file, "%s %s %.2f\n", now.UTC().Add(time.Duration(line-6)*10*time.Minute).Format("2006-01-02T15:04Z"), station, 1.8+0.1*float64(line)); err != nil {
			return err
		}
		select {
		case <-ctx.Done():
			return nil
		case <-time.After(pause):
		}
	}
	return nil
}
