package dispatch

import (
	"encoding/json"
	"reflect"
	"testing"
	"time"

	"wiselantern/service/store"
)

// The messages can cross a network.
func TestMessagesComeBackFromJSON(t *testing.T) {
	code := 3
	at := time.Date(2026, 3, 28, 6, 0, 0, 123000, time.UTC)
	for _, message := range []any{
		&Order{AttemptID: AttemptID{1, 2, 3}, RunName: "gauges:1", TaskName: "load", Kind: "exec", Exec: []string{"bin/load", "a b"}, Env: map[string]string{"A": "é"},
			Params: map[string]string{"p": ""}, Parcel: "abc", Timeout: time.Minute, Start: at, End: at.Add(time.Hour), Trace: "00-1-2-01"},
		&Started{AttemptID: AttemptID{1, 2, 3}, Worker: "w", At: at},
		&Ended{AttemptID: AttemptID{1, 2, 3}, Worker: "w", Started: at, At: at, Outcome: Failed, ExitCode: &code, Error: "e", Result: json.RawMessage(`{"a":1}`)},
		&Log{AttemptID: AttemptID{1, 2, 3}, First: 7, Lines: []store.Line{{At: at, Error: true, Joined: true, Text: []byte{0xff, 0, '\n'}}}},
	} {
		text, err := json.Marshal(message)
		if err != nil {
			t.Fatal(err)
		}
		back := reflect.New(reflect.TypeOf(message).Elem()).Interface()
		if err := json.Unmarshal(text, back); err != nil || !reflect.DeepEqual(back, message) {
			t.Errorf("%s came back as %+v (%v)", text, back, err)
		}
	}
}

func TestAttemptIDs(t *testing.T) {
	id := AttemptID{17, 3, 2}
	if back, err := ParseAttemptID(id.String()); err != nil || back != id {
		t.Errorf("%s came back as %v: %v", id, back, err)
	}
	for _, text := range []string{"", "1.2", "1.2.3.4", "a.b.c", "1.2.3x", "01.2.3", "1.2.3/../x"} {
		if id, err := ParseAttemptID(text); err == nil {
			t.Errorf("%q was read as %v", text, id)
		}
	}
}
