package demo

import (
	"fmt"
	"io/fs"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"wiselantern/core/definition"
)

var now = time.Date(2026, 3, 28, 12, 30, 0, 0, time.UTC)

// The readings have the faults that real data has, and are the same each time.
func TestTheReadingsHaveFaults(t *testing.T) {
	late, broken, doubled, stuck, renamed, hours := 0, 0, 0, 0, 0, 0
	for hour := now.Truncate(time.Hour).Add(-history); hour.Before(now.Truncate(time.Hour)); hour = hour.Add(time.Hour) {
		hours++
		text, isLate := Hour(hour, now)
		if again, _ := Hour(hour, now); again != text {
			t.Fatalf("the readings of %s are not the same twice", hour)
		}
		if isLate {
			late++
		}
		rows := strings.Split(strings.TrimSpace(text), "\n")
		if strings.Contains(rows[0], "stage_m") {
			renamed++
		}
		seen, levels := map[string]int{}, map[string]bool{}
		for _, row := range rows[1:] {
			fields := strings.Split(row, ",")
			if len(fields) != 5 {
				broken++
				continue
			}
			seen[fields[0]+fields[1]]++
			if fields[1] == "G04" {
				levels[fields[2]] = true
			}
		}
		for _, n := range seen {
			if n > 1 {
				doubled++
				break
			}
		}
		if len(levels) == 1 {
			stuck++
		}
	}
	if renamed != 24 {
		t.Errorf("the column has another name in %d hours, want those of one date", renamed)
	}
	for name, n := range map[string]int{"late": late, "with a broken line": broken, "with a station twice": doubled, "with a stuck gauge": stuck} {
		if n < hours/20 || n > hours/2 {
			t.Errorf("%d of %d hours are %s", n, hours, name)
		}
	}
}

func TestTheExampleHasNoMistakes(t *testing.T) {
	var files []definition.File
	err := fs.WalkDir(project, "project", func(name string, entry fs.DirEntry, err error) error {
		inside := strings.TrimPrefix(name, "project/")
		if err != nil || inside != definition.ProjectFile && !definition.IsWorkflowFile(inside) {
			return err
		}
		text, err := fs.ReadFile(project, name)
		files = append(files, definition.File{Path: inside, Text: string(text)})
		return err
	})
	count := len(files)
	for _, path := range definition.Tables(files) {
		text, err := fs.ReadFile(project, "project/"+path)
		if err != nil {
			t.Fatal(err)
		}
		files = append(files, definition.File{Path: path, Text: string(text), Table: true})
	}
	loaded, problems := definition.Load(files)
	if err != nil || problems != nil || loaded.Unused != nil || len(loaded.Workflows) != count-1 || count < 5 {
		t.Fatalf("%d files, %v: %v", len(files), err, problems)
	}
}

// The weather office is slow, then ready, then broken.
func TestTheWeatherOfficeIsSlowThenReadyThenBroken(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		office := &Partner{Slow: 8 * time.Second, Ready: time.Hour}
		asks := func(path string) string {
			answer := httptest.NewRecorder()
			office.ServeHTTP(answer, httptest.NewRequest("GET", path, nil))
			return fmt.Sprint(answer.Code, " ", strings.TrimSpace(answer.Body.String()))
		}
		for _, step := range []struct {
			after time.Duration
			want  string
		}{{0, "503 {\"ready\":false"}, {5 * time.Second, `200 {"done":"62%","ready":false}`}, {4 * time.Second, `200 {"basin":"upper","rain_mm":35,"ready":true}`}, {time.Hour, "500 the archive is broken"}} {
			time.Sleep(step.after)
			if got := asks("/forecast/upper"); !strings.HasPrefix(got, step.want) {
				t.Errorf("after %s: %s, want %s", step.after, got, step.want)
			}
		}
		if got := asks("/forecast/lower"); !strings.HasPrefix(got, "503") {
			t.Errorf("another basin: %s", got)
		}
		if got := asks("/"); !strings.HasPrefix(got, "404") {
			t.Errorf("another address: %s", got)
		}
	})
}

// Started again, the office is where the project says.
func TestTheWeatherOfficeIsFoundAgain(t *testing.T) {
	p := Place{Dir: t.TempDir()}
	first, err := p.ListenAsPartner()
	if err != nil {
		t.Fatal(err)
	}
	address := first.Addr().String()
	if _, err := p.ListenAsPartner(); err == nil || !strings.Contains(err.Error(), "that is taken") {
		t.Errorf("while it is taken: %v", err)
	}
	first.Close()
	again, err := p.ListenAsPartner()
	if err != nil || again.Addr().String() != address {
		t.Fatalf("%v: %v", again, err)
	}
	again.Close()
}

// A place is written once: what a reader changed stays, and only new hours are
// added.
func TestAPlaceIsWrittenOnce(t *testing.T) {
	p := Place{Dir: t.TempDir()}
	if err := p.Write(now, "127.0.0.1:9"); err != nil {
		t.Fatal(err)
	}
	hours := func() []string {
		names, err := filepath.Glob(filepath.Join(p.River(), "radio", "*"))
		if err != nil {
			t.Fatal(err)
		}
		return names
	}
	first := hours()
	if want := 31*24 + now.Hour(); len(first) != want {
		t.Errorf("there are %d hours, want %d: whole days up to now", len(first), want)
	}
	changed := filepath.Join(p.Project(), "workflows", "gauge-hourly.yaml")
	for _, name := range []string{changed, first[0]} {
		if err := os.WriteFile(name, []byte("changed"), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	if err := p.Write(now.Add(2*time.Hour), "127.0.0.1:9"); err != nil {
		t.Fatal(err)
	}
	if again := hours(); len(again) != len(first)+2 {
		t.Errorf("two hours later there are %d hours, before there were %d", len(again), len(first))
	}
	for _, name := range []string{changed, first[0]} {
		if text, err := os.ReadFile(name); err != nil || string(text) != "changed" {
			t.Errorf("%s was written again (%v)", name, err)
		}
	}
	if text, err := os.ReadFile(filepath.Join(p.Project(), "lantern.yaml")); err != nil || !strings.Contains(string(text), p.River()) {
		t.Errorf("the project does not say where its readings are: %s %v", text, err)
	}
	if info, err := os.Stat(filepath.Join(p.Project(), "bin", "collect")); err != nil || info.Mode()&0o100 == 0 {
		t.Errorf("a program has no run bit: %v", err)
	}
}
