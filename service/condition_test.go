package service

import (
	"testing"
	"time"
)

func TestAClockThatWasSetBackIsNoticedUntilItIsThereAgain(t *testing.T) {
	noon := time.Date(2026, 3, 28, 12, 0, 0, 0, time.UTC)
	c := &condition{ahead: noon}
	for _, one := range []struct {
		now  time.Duration
		back time.Duration
	}{{time.Minute, 0}, {-59 * time.Minute, time.Hour}, {-30 * time.Minute, 31 * time.Minute}, {2 * time.Minute, 0}, {time.Hour, 0}} {
		if back := c.setBack(noon.Add(one.now)); back != one.back {
			t.Errorf("at %v it is behind by %v, not %v", one.now, back, one.back)
		}
	}
}
