package match

import (
	"encoding/json"
	"fmt"
	"maps"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"
)

func TestAPatternMeansATextOrABeginning(t *testing.T) {
	for _, one := range []struct {
		pattern, text string
		want          bool
	}{
		{"storm.warning", "storm.warning", true},
		{"storm.warning", "storm.warnings", false},
		{"storm.*", "storm.warning", true},
		{"storm.*", "storm.warning.upper", true},
		{"storm.*", "storm.", false},
		{"storm.*", "storm", false},
		{"readings/*", "readings/raw", true},
		{"", "anything", true},
		{"", "", true},
		{"*", "", true},
	} {
		if got := (Pattern{Subject: one.pattern}).Fits(Event{Subject: one.text}); got != one.want {
			t.Errorf("%q fits %q: %v, want %v", one.pattern, one.text, got, one.want)
		}
	}
	for _, wrong := range []string{"st*rm", "storm*", "*.warning"} {
		if err := ParsePattern(wrong); err == nil || !strings.Contains(err.Error(), "; ") {
			t.Errorf("%q was taken: %v", wrong, err)
		}
	}
	for _, right := range []string{"", "*", "storm.*", "a/b/*", "plain"} {
		if err := ParsePattern(right); err != nil {
			t.Errorf("%q: %v", right, err)
		}
	}
}

// The index must find what asking every pattern would find.
func TestTheIndexFindsWhatFits(t *testing.T) {
	draw := rand.New(rand.NewPCG(1, 2))
	words := []string{"a", "b", "a.b", "a.b.c", "a/b", "a/b/c", "b.c", ""}
	patterns := append([]string{"*", "a.*", "a/*", "a.b.*", "a/b/*"}, words...)
	pick := func(from []string) string { return from[draw.IntN(len(from))] }
	var index Index[int]
	all := map[int]Pattern{}
	for round := range 3000 {
		key := draw.IntN(200)
		if round%3 == 0 {
			index.Remove(key)
			delete(all, key)
		} else {
			p := Pattern{pick(patterns), pick(patterns), pick(patterns)}
			index.Add(p, key)
			all[key] = p
		}
		e := Event{Type: pick(words), Source: pick(words), Subject: pick(words)}
		var want []int
		for _, key := range slices.Sorted(maps.Keys(all)) {
			if all[key].Fits(e) {
				want = append(want, key)
			}
		}
		got := index.Fit(e)
		if slices.Sort(got); !slices.Equal(got, want) {
			t.Fatalf("round %d: %+v fits %v, want %v", round, e, got, want)
		}
		if index.Len() != len(all) {
			t.Fatalf("the index has %d patterns, want %d", index.Len(), len(all))
		}
	}
	for key := range all {
		index.Remove(key)
	}
	if len(index.types) != 0 {
		t.Errorf("an empty index keeps %v", index.types)
	}
}

func TestAnEventIsWrittenAndReadAsCloudEventsSays(t *testing.T) {
	e := Event{ID: "7", Source: "/gauges/upper", Type: "storm.warning", Subject: "upper", Time: time.Date(2026, 3, 28, 6, 0, 0, 0, time.UTC),
		DataType: "application/json", Extensions: map[string]string{"traceparent": "00-1-2-01"}, Data: map[string]any{"level": 2.5}}
	text, err := json.Marshal(e)
	if err != nil {
		t.Fatal(err)
	}
	var back Event
	if err := json.Unmarshal(text, &back); err != nil {
		t.Fatal(err)
	}
	if fmt.Sprint(back) != fmt.Sprint(e) {
		t.Errorf("it came back as %v, was %v", back, e)
	}
	if err := json.Unmarshal([]byte(`{"specversion":"1.0","id":"1","source":"/a","type":"t","attempt":3,"dry":true,"none":null}`), &back); err != nil ||
		back.Extensions["attempt"] != "3" || back.Extensions["dry"] != "true" || len(back.Extensions) != 2 {
		t.Errorf("attributes that are no text: %v, %v", back.Extensions, err)
	}
	for text, want := range map[string]string{
		`{"specversion":"0.3","id":"1"}`:            "specversion",
		`{"specversion":"1.0","time":"yesterday"}`:  "RFC 3339",
		`{"specversion":"1.0","id":{"is":"wrong"}}`: "the id of the event",
		`[1]`: "cannot unmarshal",
	} {
		if err := json.Unmarshal([]byte(text), &back); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v, want %s", text, err, want)
		}
	}
}

func TestAnEventSaysWhatItLacks(t *testing.T) {
	whole := Event{ID: "1", Source: "/a", Type: "t"}
	if err := whole.Problem(); err != nil {
		t.Error(err)
	}
	for want, spoil := range map[string]func(*Event){
		"has no id":          func(e *Event) { e.ID = "" },
		"has no source":      func(e *Event) { e.Source = "" },
		"has no type":        func(e *Event) { e.Type = "" },
		"over the limit":     func(e *Event) { e.Subject = strings.Repeat("x", 2000) },
		"signs that no":      func(e *Event) { e.Source = "/a\n/b" },
		"attributes of its ": func(e *Event) { e.Extensions = many(60) },
	} {
		e := whole
		spoil(&e)
		if err := e.Problem(); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v", want, err)
		}
	}
}

func many(n int) map[string]string {
	all := map[string]string{}
	for i := range n {
		all[fmt.Sprint("x", i)] = "1"
	}
	return all
}

func FuzzReadingAnEvent(f *testing.F) {
	f.Add(`{"specversion":"1.0","id":"1","source":"/a","type":"t","data":{"a":[1,null]}}`)
	f.Add(`{"time":"2026-03-28T06:00:00.5+01:00","id":"","x":"y"}`)
	f.Fuzz(func(t *testing.T, text string) {
		var e, back Event
		if json.Unmarshal([]byte(text), &e) != nil {
			return
		}
		once, err := json.Marshal(e)
		if err != nil {
			t.Fatal(err)
		}
		if err := json.Unmarshal(once, &back); err != nil {
			t.Fatalf("what was written cannot be read: %v: %s", err, once)
		}
		if twice, _ := json.Marshal(back); string(once) != string(twice) {
			t.Errorf("%s became %s", once, twice)
		}
	})
}

// An event among many patterns, of which it fits one.
func BenchmarkFit(b *testing.B) {
	for _, size := range []int{10, 11_000} {
		b.Run(fmt.Sprintf("patterns=%d", size), func(b *testing.B) {
			var index Index[int]
			for i := range size {
				index.Add(Pattern{Type: "readings.arrived", Source: "/gauges/*", Subject: fmt.Sprint("G", i)}, i)
			}
			e := Event{Type: "readings.arrived", Source: "/gauges/upper", Subject: "G7"}
			for b.Loop() {
				if len(index.Fit(e)) != 1 {
					b.Fatal("it does not fit one")
				}
			}
		})
	}
}
