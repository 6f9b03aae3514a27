package expr

import (
	"reflect"
	"strings"
	"testing"
	"time"
)

func env(t testing.TB) *Env {
	t.Helper()
	e, err := New([]Param{
		{Name: "basin", Type: "choice"}, {Name: "threshold", Type: "number"}, {Name: "count", Type: "whole"}, {Name: "fast", Type: "bool"},
		{Name: "stations", Type: "list", Of: "text"}, {Name: "more", Type: "object"}, {Name: "since", Type: "moment"}, {Name: "pause", Type: "length"},
		{Name: "note", Type: "text", Nullable: true}, {Name: "level", Type: "number", Nullable: true},
	}, []Task{{Name: "collect"}, {Name: "load"}, {Name: "later"}, {Name: "range", Each: true}, {Name: "scratch", Resource: true}})
	if err != nil {
		t.Fatal(err)
	}
	return e
}

func before(task Task) bool { return task.Name != "later" }

func known() *Facts {
	return &Facts{
		Params: map[string]any{"basin": "upper", "threshold": 2.4, "count": int64(3), "fast": true, "stations": []any{"G01", "G02"}, "more": map[string]any{"depth": 2.0},
			"since": time.Date(2026, 1, 1, 0, 0, 0, 0, time.UTC), "pause": 90 * time.Second, "note": nil, "level": nil},
		Start: time.Date(2026, 3, 28, 23, 0, 0, 0, time.UTC), End: time.Date(2026, 3, 29, 0, 0, 0, 0, time.UTC),
		RunID: "gauges:7", RunNumber: 7, RunVersion: 2, RunCause: "schedule",
		Task: func(task Task) Known {
			switch task.Name {
			case "collect":
				return Known{State: "succeeded", Result: map[string]any{"rows": 36.0, "paths": []any{"a b", "c"}, "deep": map[string]any{"x": nil}}}
			case "range":
				return Known{State: "failed", Results: []any{map[string]any{"ok": true}, nil}}
			case "scratch":
				return Known{State: "succeeded", Result: map[string]any{"port": 7.0}}
			}
			return Known{State: "skipped"}
		},
	}
}

func TestValues(t *testing.T) {
	for text, want := range map[string]any{
		`params.threshold > 2`:                                     true,
		`params.count + 1`:                                         int64(4),
		`params.count > 2.5`:                                       true,
		`params.basin == "upper" && params.fast`:                   true,
		`params.stations.size()`:                                   int64(2),
		`params.stations.filter(s, s != "G01")`:                    []any{"G02"},
		`params.more.depth`:                                        2.0,
		`params.since < window.start`:                              true,
		`params.pause > duration("60s")`:                           true,
		`params.note == null`:                                      true,
		`params.level == null || params.level > 1.0`:               true,
		`run.id + " " + run.cause`:                                 "gauges:7 schedule",
		`run.number`:                                               int64(7),
		`task("collect").result.rows`:                              36.0,
		`task("collect").result.rows > params.threshold`:           true,
		`task('collect').result.paths`:                             []any{"a b", "c"},
		`task("load").result == null`:                              true,
		`task("load").state`:                                       "skipped",
		`has(task("collect").result.columns)`:                      false,
		`task("range").results.filter(r, r != null).size()`:        int64(1),
		`task("range").results[0].ok`:                              true,
		`task("range").state`:                                      "failed",
		`resource("scratch").result.port`:                          7.0,
		`{"a": [1, 2.5]}`:                                          map[string]any{"a": []any{int64(1), 2.5}},
		`window.end - window.start`:                                time.Hour,
		`format(window.start, "%Y-%m-%d %H:%M %z", "Europe/Oslo")`: "2026-03-29 00:00 +0100",
		`format(window.start, "%G-W%V %j %%", "UTC")`:              "2026-W13 087 %",
		`truncate(window.start, "day", "Europe/Oslo")`:             time.Date(2026, 3, 28, 23, 0, 0, 0, time.UTC),
		`truncate(window.start, "week", "UTC")`:                    time.Date(2026, 3, 23, 0, 0, 0, 0, time.UTC),
		`truncate(timestamp("2018-11-04T12:00:00Z"), "day", "America/Sao_Paulo")`: time.Date(2018, 11, 4, 3, 0, 0, 0, time.UTC),
		`add(window.start, "1d", "Europe/Oslo")`:                                  time.Date(2026, 3, 29, 22, 0, 0, 0, time.UTC),
		`add(window.start, "24h", "Europe/Oslo")`:                                 time.Date(2026, 3, 29, 23, 0, 0, 0, time.UTC),
		`add(window.start, "-1w", "UTC")`:                                         time.Date(2026, 3, 21, 23, 0, 0, 0, time.UTC),
	} {
		x, mistakes := env(t).Value(text, before)
		if mistakes != nil {
			t.Errorf("%s: %v", text, mistakes)
			continue
		}
		got, err := x.Eval(known())
		if at, ok := got.(time.Time); ok {
			got = at.UTC()
		}
		if err != nil || !reflect.DeepEqual(got, want) {
			t.Errorf("%s: got %v (%T) %v, want %v (%T)", text, got, got, err, want, want)
		}
	}
}

func TestMistakesAreFoundBeforeAnythingRuns(t *testing.T) {
	for text, want := range map[string]string{
		`params.basn == "upper"`:            `1:1 there is no param "basn"`,
		`params.basin > 3`:                  "these types do not go together: '_>_' applied to '(string, int)'",
		`params.basin`:                      "it is of the type string, not true or false",
		`task("lode").result.x > 1`:         `1:6 there is no task "lode"`,
		`task("later").result.x > 1`:        `task "later" does not come before this one`,
		`task(params.basin).result.x > 1`:   "written in quotes",
		`window.begin > window.end`:         `1:1 "window.begin" is not known here`,
		`nothing == 1`:                      `"nothing" is not known here`,
		`1 +`:                               "Syntax error",
		`item == "G01"`:                     "1:1 there is no item here",
		`task("collect").reslt.rows > 1`:    `its result, but no reslt`,
		`task("range").result.rows > 1`:     `task "range" is made for each item, so it has no result`,
		`task("scratch").state == ""`:       `there is no task "scratch"`,
		`resource("scratsch").state == ""`:  `1:10 there is no resource "scratsch"`,
		"params.fast\n  && params.cout > 1": `2:6 there is no param "cout"`,
		`format(window.start, "x") == ""`:   "these types do not go together",
	} {
		_, mistakes := env(t).Condition(text, before)
		found := ""
		for _, m := range mistakes {
			found += strings.TrimSpace(strings.Join([]string{Text(int64(m.Line)) + ":" + Text(int64(m.Column)), m.Message}, " ")) + "\n"
		}
		if !strings.Contains(found, want) {
			t.Errorf("%s: got %s, want %s", text, found, want)
		}
	}
}

func TestTemplates(t *testing.T) {
	for text, want := range map[string][]string{
		"plain":                                {"plain"},
		"basin ${params.basin}!":               {"basin upper!"},
		"${params.count}-${run.number}":        {"3-7"},
		"${task('collect').result.paths}":      {"a b", "c"},
		"all: ${task('collect').result.paths}": {`all: ["a b","c"]`},
		"$${HOME} ${params.basin}":             {"${HOME} upper"},
		`${ {"a": "}"}["a"] }`:                 {"}"},
		"${params.note}":                       {""},
		"${window.start}":                      {"2026-03-28T23:00:00Z"},
		"${params.stations.filter(s, false)}":  {},
		"${params.threshold}":                  {"2.4"},
	} {
		tp, mistakes := env(t).Template(text, before)
		if mistakes != nil {
			t.Errorf("%s: %v", text, mistakes)
			continue
		}
		if got, err := tp.Words(known()); err != nil || !reflect.DeepEqual(got, want) {
			t.Errorf("%s: got %q %v, want %q", text, got, err, want)
		}
	}
	for text, want := range map[string]string{"a ${params.basin": "this ${ is not closed", "ab ${params.basn}": `there is no param "basn"`} {
		_, mistakes := env(t).Template(text, before)
		if len(mistakes) != 1 || mistakes[0].Message != want || mistakes[0].Column < 3 {
			t.Errorf("%s: %+v", text, mistakes)
		}
	}
}

func TestWhatCannotBeEvaluatedSaysWhy(t *testing.T) {
	facts := known()
	facts.Start, facts.End = time.Time{}, time.Time{}
	for text, want := range map[string]string{
		`task("collect").result.columns > 3`:       `there is no "columns" in it`,
		`task("load").result.rows > 3`:             `there is no "rows" in it`,
		`window.start > params.since`:              "the run has no window",
		`params.stations[7] == ""`:                 "index out of bounds",
		`format(params.since, "%Q", "UTC") == ""`:  "%Q is not known",
		`format(params.since, "%Y", "Mars") == ""`: `there is no zone "Mars"`,
		`params.stations.all(a, params.stations.all(b, [1,2,3,4,5,6,7,8,9,10].all(c, [1,2,3,4,5,6,7,8,9,10].all(d, [1,2,3,4,5,6,7,8,9,10].all(e, [1,2,3,4,5,6,7,8,9,10].all(f, [1,2,3,4,5,6,7,8,9,10].all(g, c + d + e + f + g > 0)))))))`: "it costs too much",
	} {
		x, mistakes := env(t).Condition(text, before)
		if mistakes != nil {
			t.Errorf("%s: %v", text, mistakes)
			continue
		}
		began := time.Now()
		if _, err := x.Holds(facts); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: got %v, want %s", text, err, want)
		}
		if took := time.Since(began); took > 5*time.Second {
			t.Errorf("%s took %v", text, took)
		}
	}
}

// The items of a list are the same after they went through the records as text.
func TestItemsOfAList(t *testing.T) {
	for list, want := range map[string]struct {
		items      []string
		expression string // over the first item
		value      any
	}{
		`params.stations`: {[]string{`"G01"`, `"G02"`}, `item + "-" + params.basin`, "G01-upper"},
		`[1, 2, 3]`:       {[]string{"1", "2", "3"}, `item + 1`, int64(2)},
		`[params.since]`:  {[]string{`"2026-01-01T00:00:00Z"`}, `item < window.start`, true},
		`[params.pause]`:  {[]string{`"1m30s"`}, `item > duration("1m")`, true},
		`task("collect").result.paths.map(p, {"path": p, "rows": 2})`: {[]string{`{"path":"a b","rows":2}`, `{"path":"c","rows":2}`}, `item.path`, "a b"},
		`[null]`:                           {[]string{"null"}, `item == null`, true},
		`task("range").results`:            {[]string{`{"ok":true}`, "null"}, `item.ok`, true},
		`params.stations.filter(s, false)`: {[]string{}, "", nil},
	} {
		e := env(t)
		x, mistakes := e.List(list, before)
		if mistakes != nil {
			t.Errorf("%s: %v", list, mistakes)
			continue
		}
		got, err := x.Items(known())
		if err != nil || !reflect.DeepEqual(got, want.items) {
			t.Errorf("%s: got %q %v, want %q", list, got, err, want.items)
		}
		if len(want.items) == 0 {
			continue
		}
		inner, err := e.WithItem(x)
		if err != nil {
			t.Fatal(err)
		}
		of, mistakes := inner.Template("${"+want.expression+"}", before)
		if mistakes != nil {
			t.Errorf("%s: %v", want.expression, mistakes)
			continue
		}
		facts := known()
		if facts.Item, err = x.Item(got[0]); err != nil {
			t.Errorf("%s: %v", got[0], err)
		}
		if value, err := of.Value(facts); err != nil || !reflect.DeepEqual(value, want.value) {
			t.Errorf("%s of %s: got %v (%T) %v, want %v", want.expression, got[0], value, value, err, want.value)
		}
	}
	if _, mistakes := env(t).List(`params.basin`, before); len(mistakes) != 1 || !strings.Contains(mistakes[0].Message, "not a list") {
		t.Errorf("a text is no list, but got %v", mistakes)
	}
	inner, err := env(t).WithItem(nil)
	if err != nil {
		t.Fatal(err)
	}
	if _, mistakes := inner.Value(`itme`, before); len(mistakes) != 1 || !strings.Contains(mistakes[0].Fix, "known are item, params") {
		t.Errorf("got %+v", mistakes)
	}
}

func FuzzTemplate(f *testing.F) {
	f.Add("a ${params.basin} $${x} ${task('collect').result.rows}")
	f.Add("${ {'a': '}'} }")
	e := env(f)
	f.Fuzz(func(t *testing.T, text string) {
		tp, mistakes := e.Template(text, before)
		if mistakes == nil {
			_, _ = tp.Words(known())
		}
	})
}
