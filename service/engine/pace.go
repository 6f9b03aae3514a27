package engine

import (
	"sync"
	"time"
)

// A pace tells how long commits take: that which is being waited for now, and the longest
// of the last while. It may be read beside the loop.
type pace struct {
	mu      sync.Mutex
	waiting time.Time     // since when one is waited for; zero when none is
	longest time.Duration // of those of late
	at      time.Time     // when that one ended
}

// keptFor is how long a slow commit is told of: several times as long as the service waits
// between two looks, or it would not be seen among quick ones.
const keptFor = 8 * time.Second

func (p *pace) begins() {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.waiting = time.Now()
}

// ends is the end of a wait, and how long it has been with those before it that belong to
// the same commit.
func (p *pace) ends(before time.Duration) time.Duration {
	p.mu.Lock()
	defer p.mu.Unlock()
	now := time.Now()
	took := before + now.Sub(p.waiting)
	p.waiting = time.Time{}
	if took >= p.longest || now.Sub(p.at) > keptFor {
		p.longest, p.at = took, now
	}
	return took
}

// slowest is the longest commit of late, that which goes on now among them.
func (p *pace) slowest() (took time.Duration) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if time.Since(p.at) <= keptFor {
		took = p.longest
	}
	if !p.waiting.IsZero() {
		took = max(took, time.Since(p.waiting))
	}
	return took
}
