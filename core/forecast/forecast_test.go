package forecast

import (
	"math/rand/v2"
	"slices"
	"testing"
	"time"
)

var six = time.Date(2026, 3, 28, 6, 0, 0, 0, time.UTC)

func TestDurationsByNearestRank(t *testing.T) {
	var all []time.Duration
	for i := 100; i > 0; i-- {
		all = append(all, time.Duration(i)*time.Second)
	}
	got := Summarise(all)
	if want := (Usual{100, time.Second, 50 * time.Second, 95 * time.Second, 100 * time.Second}); got != want {
		t.Errorf("%+v", got)
	}
	if all[0] != 100*time.Second {
		t.Error("what was given was sorted in its place")
	}
	if got := Summarise([]time.Duration{3}); got != (Usual{1, 3, 3, 3, 3}) {
		t.Errorf("%+v", got)
	}
	if _, ok := Summarise(all[:4]).FarLonger(); ok {
		t.Error("four are taken for enough")
	}
	if got, _ := Summarise([]time.Duration{1, 1, 1, 1, 1}).FarLonger(); got < 30*time.Second {
		t.Errorf("a short task is late after %v", got)
	}
}

// diamond: a, then b and c, then d, with usual lengths of 1, 5, 2 and 3 minutes.
func diamond() []Task {
	return []Task{{Usual: time.Minute}, {After: []int{0}, Usual: 5 * time.Minute}, {After: []int{0}, Usual: 2 * time.Minute}, {After: []int{1, 2}, Usual: 3 * time.Minute}}
}

func TestExpectedEnd(t *testing.T) {
	tasks := diamond()
	if got := Expect(tasks, six); !got.End.Equal(six.Add(9*time.Minute)) || !slices.Equal(got.Path, []int{0, 1, 3}) || got.Tail != 9*time.Minute {
		t.Errorf("%+v", got)
	}
	tasks[0].Settled, tasks[0].Started, tasks[0].Ended = true, six, six.Add(time.Minute)
	tasks[1].Started, tasks[2].Started = six.Add(time.Minute), six.Add(time.Minute)
	if got := Expect(tasks, six.Add(2*time.Minute)); !got.End.Equal(six.Add(9*time.Minute)) || got.Tail != 3*time.Minute {
		t.Errorf("%+v", got)
	}
	// b takes longer than usual: each minute is a minute.
	if got := Expect(tasks, six.Add(30*time.Minute)); !got.End.Equal(six.Add(33 * time.Minute)) {
		t.Errorf("%+v", got)
	}
	if got := Expect(nil, six); !got.End.Equal(six) {
		t.Errorf("%+v", got)
	}
}

func TestTheCriticalPathIsWhereTheTimeWent(t *testing.T) {
	tasks := diamond()
	at := func(i int, from, to int) {
		tasks[i].Started, tasks[i].Ended = six.Add(time.Duration(from)*time.Minute), six.Add(time.Duration(to)*time.Minute)
	}
	at(0, 0, 1)
	at(1, 1, 3)
	at(2, 1, 8)
	at(3, 8, 9)
	if got := Critical(tasks); !slices.Equal(got, []int{0, 2, 3}) {
		t.Errorf("%v", got)
	}
	tasks[3].Started, tasks[3].Ended = time.Time{}, time.Time{} // it was not reached
	if got := Critical(tasks); !slices.Equal(got, []int{0, 2}) {
		t.Errorf("%v", got)
	}
	if got := Critical(nil); got != nil {
		t.Errorf("%v", got)
	}
}

func TestWhatIsLateAndWhenItWillBe(t *testing.T) {
	usual := func(median time.Duration) Usual {
		return Usual{Count: 20, Median: median, P95: median, Longest: median}
	}
	tasks := diamond()
	g := Going{Started: six, Tasks: tasks, Names: []string{"a", "b", "c", "d"}, Usuals: make([]Usual, 4), DueBy: six.Add(10 * time.Minute)}
	for i := range tasks {
		g.Usuals[i] = usual(tasks[i].Usual)
	}
	late, next := g.Judge(six)
	if late != nil || !next.After(six) || next.After(six.Add(2*time.Minute)) {
		t.Errorf("%+v, %v", late, next)
	}
	if late, _ := g.Judge(six.Add(90 * time.Second)); late == nil || late.Kind != "due" || !late.Expected.Equal(six.Add(10*time.Minute+30*time.Second)) {
		t.Errorf("it will miss what it is due by, and %+v is said", late)
	}
	g.DueBy = time.Time{}
	g.Tasks[0].Started = six
	if late, next := g.Judge(six.Add(time.Minute)); late != nil || !next.Equal(six.Add(2*time.Minute)) {
		t.Errorf("%+v, %v", late, next)
	}
	if late, _ := g.Judge(six.Add(2 * time.Minute)); late == nil || late.Kind != "task" || late.Task != "a" || late.Median != time.Minute {
		t.Errorf("%+v", late)
	}
	g.Usuals[0], g.Usual = Usual{}, usual(time.Hour)
	if late, next := g.Judge(six.Add(time.Hour)); late != nil || !next.Equal(six.Add(2*time.Hour)) {
		t.Errorf("%+v, %v", late, next)
	}
	if late, _ := g.Judge(six.Add(2 * time.Hour)); late == nil || late.Kind != "run" {
		t.Errorf("%+v", late)
	}
}

// Whatever the graph, what is not late now is late at the moment that was told, or
// still not, but never before.
func TestNothingIsLateBeforeItsMoment(t *testing.T) {
	random := rand.New(rand.NewPCG(1, 2))
	for range 2000 {
		n := 1 + random.IntN(12)
		g := Going{Started: six, Names: make([]string, n), Usuals: make([]Usual, n), Usual: Usual{Count: random.IntN(9), Median: time.Duration(random.IntN(60)) * time.Minute}}
		if random.IntN(2) == 0 {
			g.DueBy = six.Add(time.Duration(random.IntN(90)) * time.Minute)
		}
		for i := range n {
			task := Task{Usual: time.Duration(random.IntN(15)) * time.Minute}
			for before := range i {
				if random.IntN(3) == 0 {
					task.After = append(task.After, before)
				}
			}
			if task.After == nil && random.IntN(2) == 0 {
				task.Started = six
			}
			g.Tasks = append(g.Tasks, task)
			g.Usuals[i] = Usual{Count: random.IntN(9), Median: task.Usual, P95: task.Usual}
		}
		late, next := g.Judge(six)
		if late != nil || next.IsZero() {
			continue
		}
		for at := six; at.Before(next); at = at.Add(time.Minute) {
			if late, _ := g.Judge(at); late != nil {
				t.Fatalf("%+v at %v, and %v was told", late, at, next)
			}
		}
	}
}
