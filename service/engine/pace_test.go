package engine

import (
	"testing"
	"time"
)

// A slow commit is told of while it goes on, and among many quick ones after it, but not
// for ever.
func TestASlowCommitIsSeen(t *testing.T) {
	var p pace
	if got := p.slowest(); got != 0 {
		t.Errorf("before any commit: %v", got)
	}
	p.begins()
	p.waiting = p.waiting.Add(-3 * time.Second)
	if got := p.slowest(); got < 3*time.Second {
		t.Errorf("while it goes on: %v", got)
	}
	p.ends(time.Second)
	for range 1000 {
		p.begins()
		p.ends(0)
	}
	if got := p.slowest(); got < 4*time.Second {
		t.Errorf("after quick ones: %v", got)
	}
	p.at = p.at.Add(-keptFor)
	if got := p.slowest(); got != 0 {
		t.Errorf("after a while without any: %v", got)
	}
	p.begins()
	p.ends(0)
	if got := p.slowest(); got >= time.Second {
		t.Errorf("after a while, and a quick one: %v", got)
	}
}
