package api

import (
	"context"
	"encoding/json"
	"errors"
	"net/http"
	"regexp"
	"strconv"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"wiselantern/client"
	"wiselantern/core/calendar"
	"wiselantern/core/trouble"
	"wiselantern/service/engine"
	"wiselantern/service/store"
)

// TroublePath names a trouble in an address.
type TroublePath struct {
	Number int64 `path:"number" minimum:"1"`
}

func (a *API) troubleRoutes(api huma.API) {
	route(api, http.MethodGet, "/api/troubles", "list-troubles", "Failures", "List what is broken, grouped by the same error, or what was", a.listTroubles)
	route(api, http.MethodGet, "/api/troubles/{number}", "show-trouble", "Failures", "Show a trouble with all that is known of it",
		func(ctx context.Context, in *TroublePath) (client.TroubleStory, error) {
			return a.troubleStory(ctx, in.Number)
		})
	route(api, http.MethodPost, "/api/troubles/{number}/words", "say-of-trouble", "Failures", "Take a trouble on, leave it, note something, mark it as known until, or close it",
		func(ctx context.Context, in *struct {
			TroublePath
			Body client.TroubleWord
		}) (story client.TroubleStory, err error) {
			row, err := a.findTrouble(ctx, in.Number)
			if err != nil {
				return story, err
			}
			said := engine.TroubleWord{Word: in.Body.Word, Text: in.Body.Text}
			if in.Body.Until != nil {
				said.Until = *in.Body.Until
			}
			if err := a.Engine.SayOfTrouble(ctx, row, said, personOf(ctx)); err != nil {
				return story, err
			}
			return a.troubleStory(ctx, in.Number)
		})
	route(api, http.MethodPost, "/api/troubles/{number}/rerun", "rerun-trouble", "Failures", "Make the failed tasks of all runs of a trouble again", a.rerunTrouble)
}

func (a *API) findTrouble(ctx context.Context, number int64) (store.Trouble, error) {
	row, err := a.Store.Trouble(ctx, number)
	if err == store.ErrNotFound {
		return row, &engine.UnknownError{What: "trouble", Name: strconv.FormatInt(number, 10), None: "lantern failures lists those that are open"}
	}
	return row, err
}

func (a *API) listTroubles(ctx context.Context, in *struct {
	Choice
	Closed bool   `query:"closed" doc:"Those that are closed instead, newest first"`
	Before string `query:"before" doc:"The next of the page before"`
	Limit  int    `query:"limit" default:"100" minimum:"1" maximum:"500"`
}) (page client.Troubles, err error) {
	chosen, err := a.wanted(ctx, in.Choice)
	if err != nil {
		return page, err
	}
	if !in.Closed {
		page.Troubles, err = a.openTroubles(ctx, chosen.names)
		return page, err
	}
	var before int64
	if in.Before != "" {
		if before, err = strconv.ParseInt(in.Before, 10, 64); err != nil {
			return page, huma.Error422UnprocessableEntity("before is not the next of a page")
		}
	}
	rows, err := a.Store.ClosedTroubles(ctx, before, in.Limit+1)
	if err != nil {
		return page, err
	}
	if len(rows) > in.Limit {
		rows = rows[:in.Limit]
		page.Next = strconv.FormatInt(rows[in.Limit-1].ID, 10)
	}
	page.Troubles = []client.Trouble{}
	for _, row := range rows {
		if chosen.ids != nil && !chosen.names[row.Name] {
			continue
		}
		page.Troubles = append(page.Troubles, troubleOf(row))
	}
	return page, nil
}

// openTroubles are those of the wanted workflows, those that are known last.
func (a *API) openTroubles(ctx context.Context, wanted map[string]bool) ([]client.Trouble, error) {
	rows, err := a.Store.OpenTroubles(ctx)
	if err != nil {
		return nil, err
	}
	counts, err := a.Store.CountTroubleRuns(ctx)
	if err != nil {
		return nil, err
	}
	byTrouble := map[int64]store.TroubleCount{}
	for _, c := range counts {
		byTrouble[c.Trouble] = c
	}
	list, known := []client.Trouble{}, []client.Trouble{}
	now := time.Now()
	for _, row := range rows {
		if !wanted[row.Name] {
			continue
		}
		one := troubleOf(row)
		one.Runs, one.Windows = byTrouble[row.ID].Runs, byTrouble[row.ID].Windows
		if one.KnownUntil != nil && one.KnownUntil.After(now) {
			known = append(known, one)
		} else {
			list = append(list, one)
		}
	}
	return append(list, known...), nil
}

var exitCodeInError = regexp.MustCompile(`^exit code (\d+)`)

// seenIn is what the error of an attempt tells, for a hint.
func seenIn(text string, log []string) trouble.Seen {
	seen := trouble.Seen{Error: text, ExitCode: -1, Log: log}
	if code := exitCodeInError.FindStringSubmatch(text); code != nil {
		seen.ExitCode, _ = strconv.Atoi(code[1]) // digits are all that fits
	}
	return seen
}

func hintFor(seen trouble.Seen) *client.Hint {
	hint, ok := trouble.HintFor(seen)
	if !ok {
		return nil
	}
	return &client.Hint{Kind: hint.Kind, Cause: hint.Cause, Try: hint.Try}
}

func troubleOf(row store.Trouble) client.Trouble {
	return client.Trouble{Number: row.ID, Workflow: row.Name, Task: row.Task, Error: row.Error, Pattern: trouble.Normalise(row.Error), Hint: hintFor(seenIn(row.Error, nil)),
		Opened: row.Opened.Time(), Last: row.Last.Time(), Count: row.Count, TakenBy: row.TakenBy, KnownUntil: moment(row.KnownUntil), Closed: moment(row.Closed), ClosedBy: row.ClosedBy, Earlier: row.Earlier}
}

const (
	mostAffected = 500
	linesLooked  = 2000 // of the newest failure's log, from its end
	linesShown   = 24
)

func (a *API) troubleStory(ctx context.Context, number int64) (s client.TroubleStory, err error) {
	row, err := a.findTrouble(ctx, number)
	if err != nil {
		return s, err
	}
	s.Trouble = troubleOf(row)
	s.Affected, s.Changed, s.Log, s.Words = []client.Affected{}, []client.Contrast{}, []client.Line{}, []client.SaidOfThis{}
	words, err := a.Store.TroubleWords(ctx, number)
	if err != nil {
		return s, err
	}
	for _, w := range words {
		s.Words = append(s.Words, client.SaidOfThis{At: w.At.Time(), Person: w.Person, Word: w.Word, Text: w.Text})
	}
	runs, err := a.Store.TroubleRuns(ctx, number, mostAffected+1)
	if err != nil || len(runs) == 0 {
		return s, err
	}
	if len(runs) > mostAffected {
		runs, s.More = runs[:mostAffected], true
	}
	counted := map[int64]bool{}
	for _, r := range runs {
		one := client.Affected{Run: engine.RunName(row.Name, r.Number), State: r.State, At: r.At.Time(), Mended: moment(r.Mended)}
		if r.WindowEnd.Valid {
			one.Window = &client.Window{Start: r.WindowStart.Time(), End: r.WindowEnd.Time()}
		}
		if r.Task >= 0 {
			if one.Task, err = a.taskName(ctx, row.Workflow, r.Version, r.Run, r.Task); err != nil {
				return s, err
			}
		}
		if !r.Mended.Valid && !counted[r.Run] {
			counted[r.Run] = true
			s.Runs++
			if r.WindowEnd.Valid {
				s.Windows++
			}
		}
		s.Affected = append(s.Affected, one)
	}
	if err := a.addLog(ctx, &s, row, runs[0]); err != nil {
		return s, err
	}
	return s, a.addChanged(ctx, &s, row, runs)
}

// addLog adds the lines of the newest failure that matter, and the hint that they
// give if the error gives none.
func (a *API) addLog(ctx context.Context, s *client.TroubleStory, row store.Trouble, newest store.TroubleRun) error {
	if newest.Task < 0 {
		return nil
	}
	_, attempts, err := a.Store.TaskWithAttempts(ctx, newest.Run, newest.Task)
	if err != nil {
		return err
	}
	for _, at := range attempts {
		if at.State == store.AttemptFailed || s.Attempt == 0 {
			s.Attempt = at.Number
		}
	}
	of := store.LogOf{Run: newest.Run, Task: newest.Task, Attempt: s.Attempt}
	total, err := a.Store.Logs.Count(ctx, of)
	if err != nil || total == 0 {
		return err
	}
	lines, err := a.lines(ctx, of, max(0, total-linesLooked), linesLooked)
	if err != nil {
		return err
	}
	texts := make([]string, len(lines))
	for i, l := range lines {
		texts[i] = l.Text
	}
	for _, place := range trouble.Mattering(texts, linesShown) {
		s.Log = append(s.Log, lines[place])
	}
	if s.Hint == nil {
		s.Hint = hintFor(seenIn(row.Error, texts))
	}
	return nil
}

// addChanged tells what is different in the first run that failed from the last
// that succeeded before it.
func (a *API) addChanged(ctx context.Context, s *client.TroubleStory, row store.Trouble, runs []store.TroubleRun) error {
	first := runs[len(runs)-1]
	good, err := a.Store.SuccessBefore(ctx, row.Workflow, first.Number)
	if err == store.ErrNotFound {
		return nil
	}
	if err != nil {
		return err
	}
	summary, err := a.summaryOf(ctx, good)
	if err != nil {
		return err
	}
	s.LastGood = &summary
	failed, err := a.Store.RunByID(ctx, first.Run)
	if err != nil {
		return err
	}
	compared, err := a.compare(ctx, good, failed)
	if err != nil {
		return err
	}
	s.Changed = append(s.Changed, compared.Contrasts...)
	for _, t := range compared.Tasks {
		if t.Name == row.Task || t.AState == t.BState {
			s.Changed = append(s.Changed, t.Differs...)
		}
	}
	return nil
}

func (a *API) rerunTrouble(ctx context.Context, in *struct {
	TroublePath
	Body client.TroubleRerun
}) (all client.TroubleReruns, err error) {
	all.Reruns = []client.TroubleRerunOf{}
	row, err := a.findTrouble(ctx, in.Number)
	if err != nil {
		return all, err
	}
	runs, err := a.Store.OpenTroubleRuns(ctx, row.ID, mostAffected)
	if err != nil {
		return all, err
	}
	if len(runs) == 0 {
		return all, &engine.RefusedError{Reason: "nothing of this trouble is left to be made again"}
	}
	for _, run := range runs {
		one := client.TroubleRerunOf{Run: engine.RunName(run.Name, run.Number)}
		if in.Body.Anew {
			one.Anew, err = a.anew(ctx, run, in.Body.DryRun)
		} else {
			one.Rerun, err = a.rerunOf(ctx, run, engine.Selection{Failed: true}, nil, in.Body.FollowOn, in.Body.DryRun)
		}
		var refused *engine.RefusedError
		if errors.As(err, &refused) {
			one.Refused, err = refused.Reason, nil
		}
		if err != nil {
			return all, err
		}
		all.Reruns = append(all.Reruns, one)
	}
	return all, nil
}

// anew makes a new run for the window and with the params of another, with the
// version that new runs take.
func (a *API) anew(ctx context.Context, run store.Run, dry bool) (name string, err error) {
	if dry {
		return "", nil
	}
	wanted := engine.Wanted{Window: calendar.Window{Start: run.WindowStart.Time(), End: run.WindowEnd.Time()}}
	if err := json.Unmarshal([]byte(run.Params), &wanted.Params); err != nil {
		return "", err
	}
	made, err := a.Engine.Start(ctx, run.Name, wanted, personOf(ctx))
	return engine.RunName(made.Name, made.Number), err
}
