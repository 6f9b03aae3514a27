package service

import (
	"cmp"
	"context"
	"fmt"
	"log/slog"
	"math"
	"os"
	"runtime/debug"
	"slices"
	"strings"
	"sync"
	"time"

	"wiselantern/client"
	"wiselantern/machine"
	"wiselantern/service/dispatch"
)

// condition watches over what the service stands on: its disk, its clock, its files and
// memory, its message server and its workers' machines. Each thing that is wrong is told
// in the log once, and on Watch and by /api/health for as long as it lasts.
type condition struct {
	data     string
	exchange *exchange
	slowest  func() time.Duration // how long commits have taken of late
	log      *slog.Logger

	mu     sync.Mutex
	faults map[string]client.Fault // by what is wrong
	ahead  time.Time               // the latest that the machine's clock has been
}

const (
	lookEvery  = 2 * time.Second
	littleRoom = 256 << 20 // bytes
	slowCommit = time.Second
	backMargin = 5 * time.Second
	mostFiles  = 0.9  // of those that may be open
	mostMemory = 0.95 // of the limit
)

func (c *condition) watch(ctx context.Context) {
	every := time.NewTicker(lookEvery)
	defer every.Stop()
	for {
		c.look()
		select {
		case <-ctx.Done():
			return
		case <-every.C:
		}
	}
}

func (c *condition) look() {
	now := time.Now()
	found := map[string]client.Fault{}
	wrong := func(of, do, fault string, args ...any) {
		found[of] = client.Fault{Of: of, Fault: fmt.Sprintf(fault, args...), Do: do}
	}
	if free, whole, err := machine.Room(c.data); err == nil && free < littleRoom && free < whole/10 {
		wrong("room", "free space there; without any, no work is taken", "only %d MB are free on the disk of %s", free>>20, c.data)
	}
	if took := c.slowest(); took > slowCommit {
		wrong("slow disk", "see what else uses the disk; everything waits for it", "a commit takes %v", took.Round(100*time.Millisecond))
	}
	if back := c.setBack(now); back > backMargin {
		wrong("clock", "set it right (NTP); what is due comes when the clock says so, and no window is made twice", "the machine's clock was set back by %v", back.Round(time.Second))
	}
	const doFiles = "raise the limit (ulimit -n, or LimitNOFILE of the service) and start it again"
	open, err := machine.OpenFiles()
	if most, err2 := machine.MostFiles(); err != nil {
		wrong("open files", doFiles, "no more files can be opened: %v", err)
	} else if err2 == nil && float64(open) > mostFiles*float64(most) {
		wrong("open files", doFiles, "%d of %d files are open", open, most)
	}
	if used, most := machine.GroupMemory(); most > 0 && float64(used) > mostMemory*float64(most) {
		wrong("memory", "give the service more; beyond its limit the kernel kills it", "%d of %d MB are in use", used>>20, most>>20)
	}
	if conn := c.exchange.conn; !conn.IsConnected() {
		wrong("message server", "see that it runs and can be reached; what runs goes on, and nothing new begins", "%s cannot be reached", c.exchange.joining())
	}
	for _, w := range c.exchange.office.Workers() {
		if len(w.Faults) > 0 && now.Sub(w.Heard) < dispatch.SilentAfter {
			wrong("worker "+w.Name, "see to its machine; it takes no work until then", "%s", strings.Join(w.Faults, "; "))
		}
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	for of, f := range found {
		if before, ok := c.faults[of]; ok {
			f.Since = before.Since
		} else {
			f.Since = now.UTC()
			c.log.Warn(f.Fault, "of", of, "do", f.Do)
		}
		found[of] = f
	}
	for of, f := range c.faults {
		if _, still := found[of]; !still {
			c.log.Info("it is well again", "of", of, "was", f.Fault, "since", f.Since)
		}
	}
	c.faults = found
}

// setBack is how far the machine's clock is behind where it has been.
func (c *condition) setBack(now time.Time) time.Duration {
	c.mu.Lock()
	defer c.mu.Unlock()
	if wall := now.Round(0); wall.After(c.ahead) { // without its monotonic part
		c.ahead = wall
	}
	return c.ahead.Sub(now.Round(0))
}

// list tells what is wrong, that which began first before the rest.
func (c *condition) list() (all []client.Fault) {
	c.mu.Lock()
	defer c.mu.Unlock()
	for _, f := range c.faults {
		all = append(all, f)
	}
	slices.SortFunc(all, func(a, b client.Fault) int { return cmp.Or(a.Since.Compare(b.Since), cmp.Compare(a.Of, b.Of)) })
	return all
}

// heedMemoryLimit has memory be given back before the limit of the control group is
// reached, where there is one and GOMEMLIMIT says nothing.
func heedMemoryLimit() {
	if _, most := machine.GroupMemory(); most > 0 && os.Getenv("GOMEMLIMIT") == "" && debug.SetMemoryLimit(-1) == math.MaxInt64 {
		debug.SetMemoryLimit(most * 4 / 5)
	}
}
