package api

import (
	"bytes"
	"context"
	"fmt"
	"regexp"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"wiselantern/client"
	"wiselantern/core/definition"
	"wiselantern/core/flow"
	"wiselantern/service/engine"
	"wiselantern/service/store"
)

// LogOf names the log of an attempt in an address.
type LogOf struct {
	RunPath
	Task    string `query:"task" required:"true" example:"load"`
	Attempt int    `query:"attempt" minimum:"0" doc:"From 1; left out or 0, the newest"`
}

// findLog is the log of an attempt, and whether the attempt is open.
func (a *API) findLog(ctx context.Context, in LogOf) (of store.LogOf, open bool, err error) {
	row, err := a.findRun(ctx, in.Run)
	if err != nil {
		return of, false, err
	}
	d, err := a.definitionOf(ctx, row.Workflow, row.Version)
	if err != nil {
		return of, false, err
	}
	place, err := a.findTask(ctx, row, d, in.Task)
	if err != nil {
		return of, false, err
	}
	task, attempts, err := a.Store.TaskWithAttempts(ctx, row.ID, place)
	if err != nil {
		return of, false, err
	}
	number := in.Attempt
	if number == 0 {
		number = max(1, task.Attempts)
	}
	if number > task.Attempts && task.Attempts > 0 {
		return of, false, &engine.UnknownError{What: "attempt", Name: strconv.Itoa(number), Known: []string{fmt.Sprintf("attempts 1 to %d of task %s", task.Attempts, in.Task)}}
	}
	state, err := flow.ParseState(task.State)
	open = !state.Settled()
	for _, at := range attempts {
		if at.Number == number {
			open = at.IsOpen()
		}
	}
	return store.LogOf{Run: row.ID, Task: place, Attempt: number}, open, err
}

func (a *API) readLog(ctx context.Context, in *struct {
	LogOf
	From  int    `query:"from" minimum:"0" doc:"The first line wanted, counted from 0"`
	Last  int    `query:"last" minimum:"0" maximum:"10000" doc:"Read that many lines from the end instead"`
	Limit int    `query:"limit" default:"1000" minimum:"1" maximum:"10000"`
	Find  string `query:"find" doc:"Only lines that have this text in them, in any case"`
	Level string `query:"level" enum:"warning,error" doc:"Only lines that say they are a warning or worse, or an error"`
}) (page client.Lines, err error) {
	of, open, err := a.findLog(ctx, in.LogOf)
	if err != nil {
		return page, err
	}
	page.Open = open
	if page.Total, err = a.Store.Logs.Count(ctx, of); err != nil {
		return page, err
	}
	if page.Total == 0 && !open && a.KeepLogs > 0 {
		run, err := a.Store.RunByID(ctx, of.Run)
		if err != nil {
			return page, err
		}
		if run.Ended.Valid && time.Since(run.Ended.Time()) > a.KeepLogs {
			page.Cleared = definition.Length(a.KeepLogs).String()
		}
	}
	from := in.From
	if in.Last > 0 {
		from = max(0, page.Total-in.Last)
	}
	if in.Find != "" || in.Level != "" {
		return page, a.findLines(ctx, of, &page, from, in.Limit, fits(in.Find, in.Level))
	}
	page.Lines, err = a.lines(ctx, of, from, in.Limit)
	return page, err
}

// What a line says its level by, as programs write it, and what is in every such line.
var levels = map[string]struct {
	whole *regexp.Regexp
	part  [][]byte // in lower case
}{
	"error": {regexp.MustCompile(`(?i)\b(error|err|fatal|panic|critical|crit|exception|traceback)\b|\b[A-Z]\w*(Error|Exception)\b`), errorParts},
	"warning": {regexp.MustCompile(`(?i)\b(warning|warn|error|err|fatal|panic|critical|crit|exception|traceback)\b|\b[A-Z]\w*(Error|Exception)\b`),
		append([][]byte{[]byte("warn")}, errorParts...)},
}

var errorParts = [][]byte{[]byte("err"), []byte("fatal"), []byte("panic"), []byte("crit"), []byte("exception"), []byte("traceback")}

// fits tells which lines are wanted.
func fits(find, level string) func(text []byte) bool {
	wanted := []byte(strings.ToLower(find))
	of, leveled := levels[level]
	return func(text []byte) bool {
		lower := bytes.ToLower(text)
		if !bytes.Contains(lower, wanted) {
			return false
		}
		if !leveled {
			return true
		}
		for _, part := range of.part { // which is far quicker than the expression
			if bytes.Contains(lower, part) {
				return of.whole.Match(text)
			}
		}
		return false
	}
}

// longestSearch bounds how long lines are looked at for one answer; whoever asked
// goes on from Next.
const longestSearch = 1500 * time.Millisecond

// findLines adds the lines from that one on that fit.
func (a *API) findLines(ctx context.Context, of store.LogOf, page *client.Lines, from, limit int, fit func(text []byte) bool) error {
	page.Lines = []client.Line{}
	const step = 20_000
	for end := time.Now().Add(longestSearch); from < page.Total; {
		if len(page.Lines) >= limit || time.Now().After(end) {
			page.Next = &from
			return nil
		}
		rows, err := a.Store.Logs.Lines(ctx, of, from, step)
		if err != nil || len(rows) == 0 {
			return err
		}
		for _, r := range rows {
			if len(page.Lines) >= limit {
				break
			}
			if fit(r.Text) {
				page.Lines = append(page.Lines, lineOf(r, from))
			}
			from++
		}
	}
	return nil
}

func (a *API) lines(ctx context.Context, of store.LogOf, from, limit int) ([]client.Line, error) {
	rows, err := a.Store.Logs.Lines(ctx, of, from, limit)
	if err != nil {
		return nil, err
	}
	lines := make([]client.Line, len(rows))
	for i, r := range rows {
		lines[i] = lineOf(r, from+i)
	}
	return lines, nil
}

// lineOf is a line as the API tells it.
func lineOf(r store.Line, number int) client.Line {
	line := client.Line{Number: number, At: r.At, Stream: "out", Text: string(r.Text), Joined: r.Joined}
	if r.Error {
		line.Stream = "err"
	}
	if !utf8.Valid(r.Text) {
		line.Text, line.Bytes = strings.ToValidUTF8(line.Text, "\uFFFD"), r.Text
	}
	return line
}
