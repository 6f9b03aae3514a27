package api

import (
	"context"
	"fmt"
	"regexp"
	"strconv"
	"strings"
	"unicode/utf8"

	"wiselantern/client"
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

// What a line says its level by, as programs write it.
var levels = map[string]*regexp.Regexp{
	"error":   regexp.MustCompile(`(?i)\b(error|err|fatal|panic|critical|crit|exception|traceback)\b|\b[A-Z]\w*(Error|Exception)\b`),
	"warning": regexp.MustCompile(`(?i)\b(warning|warn|error|err|fatal|panic|critical|crit|exception|traceback)\b|\b[A-Z]\w*(Error|Exception)\b`),
}

// fits tells which lines are wanted.
func fits(find, level string) func(text string) bool {
	find = strings.ToLower(find)
	return func(text string) bool {
		if level != "" && !levels[level].MatchString(text) {
			return false
		}
		return find == "" || strings.Contains(strings.ToLower(text), find)
	}
}

// mostSearched bounds how many lines are looked at for one answer; whoever asked goes on
// from Next.
const mostSearched = 200_000

// findLines adds the lines from that one on that fit.
func (a *API) findLines(ctx context.Context, of store.LogOf, page *client.Lines, from, limit int, fit func(string) bool) error {
	page.Lines = []client.Line{}
	const step = 10_000
	for end := from + mostSearched; from < page.Total; {
		if from >= end || len(page.Lines) >= limit {
			page.Next = &from
			return nil
		}
		lines, err := a.lines(ctx, of, from, step)
		if err != nil || len(lines) == 0 {
			return err
		}
		for _, l := range lines {
			if len(page.Lines) >= limit {
				break
			}
			if from++; fit(l.Text) {
				page.Lines = append(page.Lines, l)
			}
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
		lines[i] = client.Line{Number: from + i, At: r.At, Stream: "out", Text: string(r.Text), Joined: r.Joined}
		if r.Error {
			lines[i].Stream = "err"
		}
		if !utf8.Valid(r.Text) {
			lines[i].Text, lines[i].Bytes = strings.ToValidUTF8(lines[i].Text, "\uFFFD"), r.Text
		}
	}
	return lines, nil
}
