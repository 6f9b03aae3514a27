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
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"wiselantern/client"
)

// condition watches over what the service stands on: its disk, its clock, its files and
// memory, its message server and its workers' machines. Each thing that is wrong is told
// in the log once, and on Watch and by /api/health for as long as it lasts.
type condition struct {
	data     string
	exchange *exchange
	slowest  func() time.Duration // how long commits have taken of late
	log      *slog.Logger

	mu       sync.Mutex
	problems map[string]client.Impairment // by what is wrong
	ahead    time.Time                    // the latest that the machine's clock has been
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
	found := map[string]client.Impairment{}
	wrong := func(of, do, problem string, args ...any) {
		found[of] = client.Impairment{Of: of, Problem: fmt.Sprintf(problem, args...), Do: do}
	}
	var stat syscall.Statfs_t
	if err := syscall.Statfs(c.data, &stat); err == nil && stat.Blocks > 0 {
		if free := stat.Bavail * uint64(stat.Bsize); free < littleRoom && free < stat.Blocks*uint64(stat.Bsize)/10 {
			wrong("room", "free space there; without any, no work is taken", "only %d MB are free on the disk of %s", free>>20, c.data)
		}
	}
	if took := c.slowest(); took > slowCommit {
		wrong("slow disk", "see what else uses the disk; everything waits for it", "a commit takes %v", took.Round(100*time.Millisecond))
	}
	if back := c.setBack(now); back > backMargin {
		wrong("clock", "set it right (NTP); what is due comes when the clock says so, and no window is made twice", "the machine's clock was set back by %v", back.Round(time.Second))
	}
	var limit syscall.Rlimit
	if entries, err := os.ReadDir("/proc/self/fd"); err != nil {
		wrong("open files", "raise the limit (ulimit -n, or LimitNOFILE of the service) and start it again", "no more files can be opened: %v", err)
	} else if syscall.Getrlimit(syscall.RLIMIT_NOFILE, &limit) == nil && float64(len(entries)) > mostFiles*float64(limit.Cur) {
		wrong("open files", "raise the limit (ulimit -n, or LimitNOFILE of the service) and start it again", "%d of %d files are open", len(entries), limit.Cur)
	}
	if used, most := memoryOfGroup(); most > 0 && float64(used) > mostMemory*float64(most) {
		wrong("memory", "give the service more; beyond its limit the kernel kills it", "%d of %d MB are in use", used>>20, most>>20)
	}
	if conn := c.exchange.conn; !conn.IsConnected() {
		wrong("message server", "see that it runs and can be reached; what runs goes on, and nothing new begins", "%s cannot be reached", c.exchange.joining())
	}
	for _, w := range c.exchange.office.Workers() {
		for _, fault := range w.Faults {
			wrong("worker "+w.Name, "see to its machine; it takes no work until then", "%s", fault)
		}
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	for of, p := range found {
		if before, ok := c.problems[of]; ok {
			p.Since = before.Since
		} else {
			p.Since = now.UTC()
			c.log.Warn(p.Problem, "of", of, "do", p.Do)
		}
		found[of] = p
	}
	for of, p := range c.problems {
		if _, still := found[of]; !still {
			c.log.Info("it is well again", "of", of, "was", p.Problem, "since", p.Since)
		}
	}
	c.problems = found
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
func (c *condition) list() (all []client.Impairment) {
	c.mu.Lock()
	defer c.mu.Unlock()
	for _, p := range c.problems {
		all = append(all, p)
	}
	slices.SortFunc(all, func(a, b client.Impairment) int { return cmp.Or(a.Since.Compare(b.Since), cmp.Compare(a.Of, b.Of)) })
	return all
}

// memoryOfGroup is how much memory the service's control group uses, and how much it may
// (cgroup v2, memory.current and memory.max), 0 where there is no limit.
func memoryOfGroup() (used, most int64) {
	of := func(name string) int64 {
		text, err := os.ReadFile("/sys/fs/cgroup/" + name)
		if err != nil {
			return 0
		}
		n, _ := strconv.ParseInt(strings.TrimSpace(string(text)), 10, 64) // "max" is none
		return n
	}
	return of("memory.current"), of("memory.max")
}

// heedMemoryLimit has memory be given back before the limit of the control group is
// reached, where there is one and GOMEMLIMIT says nothing.
func heedMemoryLimit() {
	if _, most := memoryOfGroup(); most > 0 && os.Getenv("GOMEMLIMIT") == "" && debug.SetMemoryLimit(-1) == math.MaxInt64 {
		debug.SetMemoryLimit(most * 4 / 5)
	}
}
