package definition

import (
	"fmt"
	"regexp"
	"strconv"
	"strings"
	"time"
)

// DueBy says when a run should be done: a length of time after it was due, as in
// 45m, or a time of day, as in 07:00. Nothing is stopped that is not done by
// then; it is late.
type DueBy string

var clockPattern = regexp.MustCompile(`^([01][0-9]|2[0-3]):[0-5][0-9]$`)

func (r *reader) dueBy(n *node) DueBy {
	text := r.text(n, "due_by")
	if n.kind != scalar || clockPattern.MatchString(text) {
		return DueBy(text)
	}
	if length, err := ParseLength(text); err != nil || length == 0 {
		r.problem(n, `write a length of time after the run was due, as in 45m, or a time of day, as in "07:00"`, "%q does not say when a run should be done", text)
	}
	return DueBy(text)
}

// After is the moment by which a run that was due at that moment should be done:
// that much later, or when the wall clock of the zone next shows that time of
// day, at once if it does at that moment. Without a promise it is the zero time.
func (d DueBy) After(due time.Time, zone *time.Location) time.Time {
	if d == "" || due.IsZero() {
		return time.Time{}
	}
	if length, err := ParseLength(string(d)); err == nil {
		return due.Add(length.Duration())
	}
	hours, minutes, _ := strings.Cut(string(d), ":")
	hour, _ := strconv.Atoi(hours) // the reader has looked at both
	minute, _ := strconv.Atoi(minutes)
	local := due.In(zone)
	for day := 0; ; day++ {
		// A time in a gap of the clock is the first moment after it (time.Date).
		if at := time.Date(local.Year(), local.Month(), local.Day()+day, hour, minute, 0, 0, zone); !at.Before(due) {
			return at
		}
	}
}

// Words are the promise as people say it.
func (d DueBy) Words() string {
	if clockPattern.MatchString(string(d)) {
		return "by " + string(d)
	}
	return fmt.Sprintf("within %s", string(d))
}
