package calendar

import (
	"fmt"
	"strings"
	"testing"
)

const holidays = `BEGIN:VCALENDAR
VERSION:2.0
PRODID:-//River//Gauges//EN
BEGIN:VEVENT
UID:1@river
DTSTAMP:20260101T000000Z
DTSTART;VALUE=DATE:20260501
DTEND;VALUE=DATE:20260502
SUMMARY:One day
END:VEVENT
BEGIN:VEVENT
UID:2@river
DTSTAMP:20260101T000000Z
DTSTART;VALUE=DATE:20260706
DTEND;VALUE=DATE:20260711
SUMMARY:A week in summer
END:VEVENT
BEGIN:VEVENT
UID:3@river
DTSTAMP:20260101T000000Z
DTSTART;VALUE=DATE:20241224
RRULE:FREQ=YEARLY;COUNT=3
SUMMARY:Each year
END:VEVENT
BEGIN:VEVENT
UID:4@river
DTSTAMP:20260101T000000Z
DTSTART:20260303T120000Z
DTEND:20260303T140000Z
SUMMARY:An afternoon
END:VEVENT
END:VCALENDAR
`

func TestHolidays(t *testing.T) {
	got, err := Holidays(strings.ReplaceAll(holidays, "\n", "\r\n"))
	if want := "[2024-12-24 2025-12-24 2026-03-03 2026-05-01 2026-07-06..2026-07-10 2026-12-24]"; err != nil || fmt.Sprint(got) != want {
		t.Errorf("got %v %v, want %s", got, err, want)
	}
	for text, want := range map[string]string{
		"no calendar": "this is no iCalendar file",
		strings.Replace(holidays, "DTSTART;VALUE=DATE:20260501\n", "", 1):     "an event has no DTSTART",
		strings.Replace(holidays, "FREQ=YEARLY;COUNT=3", "FREQ=SOMETIMES", 1): `the RRULE "FREQ=SOMETIMES" of an event`,
	} {
		if _, err := Holidays(strings.ReplaceAll(text, "\n", "\r\n")); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("got %v, want %s", err, want)
		}
	}
}
