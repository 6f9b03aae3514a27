package cli

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"wiselantern/client"
	"wiselantern/core/definition"
	"wiselantern/core/expr"
)

// given is what a task would be given, as try --show prints it. What hangs on
// what is not known before the run stands there as it is in the file.
type given struct {
	Task    string            `json:"task"`
	Kind    string            `json:"kind"`
	OnlyIf  string            `json:"only_if,omitempty"`
	Runs    string            `json:"runs"`
	ForEach []string          `json:"for_each,omitempty"`
	Exec    []string          `json:"exec,omitempty"`
	Shell   string            `json:"shell,omitempty"`
	Start   string            `json:"start,omitempty"`
	Waits   string            `json:"waits,omitempty"` // for what, in words
	Asks    string            `json:"asks,omitempty"`
	Updates []string          `json:"updates,omitempty"`
	Params  map[string]string `json:"params,omitempty"`
	Env     map[string]string `json:"env,omitempty"`
	Within  []string          `json:"within,omitempty"`
	Takes   map[string]int    `json:"takes,omitempty"`
	Timeout string            `json:"timeout,omitempty"`
	Errors  []string          `json:"errors,omitempty"`
}

// showGiven prints what each task of a run would be given.
func (a *app) showGiven(w *definition.Workflow, request client.StartRequest) error {
	params, err := paramsOf(w, request.Texts)
	if err != nil {
		return &usageError{err}
	}
	facts := &expr.Facts{Params: params.Native(w.Params), RunID: w.Name + ":1", RunNumber: 1, RunVersion: 1, RunCause: "person"}
	if request.Window != nil {
		facts.Start, facts.End = request.Window.Start, request.Window.End
	}
	facts.Task = func(t expr.Task) expr.Known {
		known := expr.Known{State: "succeeded", Result: request.Results[t.Name]}
		known.Results, _ = known.Result["results"].([]any)
		return known
	}
	compiled, err := w.Compile()
	if err != nil {
		return err
	}
	s := shower{facts: facts, results: request.Results}
	var all []given
	for i, t := range w.Nodes() {
		if request.Only == nil || slices.Contains(request.Only, t.Name) {
			one := &definition.Compiled{}
			if compiled != nil {
				one = &compiled.Nodes[i]
			}
			all = append(all, s.given(t, one))
		}
	}
	for _, name := range request.Only {
		if _, ok := w.Task(name); !ok {
			return &usageError{fmt.Errorf("--task %s: there is no such task in %s", name, w.Name)}
		}
	}
	return a.print(all, func() error {
		a.printGiven(w, params, request.Window, all)
		return nil
	})
}

func paramsOf(w *definition.Workflow, texts map[string]string) (definition.Values, error) {
	values := definition.Values{}
	for name, text := range texts {
		values[name] = text
		if p, ok := w.Param(name); ok {
			value, err := p.Parse(text)
			if err != nil {
				return nil, fmt.Errorf("param %q: %w", name, err)
			}
			values[name] = value
		}
	}
	return definition.Fill(w.Params, values)
}

// shower works out values as far as they can be told before a run.
type shower struct {
	facts   *expr.Facts
	results map[string]map[string]any // that are given
	errors  []string
}

// known tells whether everything that an expression speaks of is known.
func (s *shower) known(tasks []expr.Task) bool {
	return !slices.ContainsFunc(tasks, func(t expr.Task) bool { return s.results[t.Name] == nil || t.Resource })
}

func (s *shower) text(t *expr.Template, text string) string {
	if t == nil || !s.known(t.Tasks()) {
		return text
	}
	value, err := t.Text(s.facts)
	if err != nil {
		s.errors = append(s.errors, err.Error())
		return text
	}
	return value
}

func (s *shower) given(t definition.Task, c *definition.Compiled) given {
	one := given{Task: t.Name, Kind: t.Kind, OnlyIf: t.OnlyIf, Runs: "yes", Shell: t.Shell, Within: t.Within, Takes: t.Takes}
	s.errors, s.facts.Item = nil, nil
	if t.Timeout > 0 {
		one.Timeout = t.Timeout.String()
	}
	if c.OnlyIf != nil {
		one.Runs = "unknown"
		if s.known(c.OnlyIf.Tasks) {
			if holds, err := c.OnlyIf.Holds(s.facts); err != nil {
				s.errors = append(s.errors, err.Error())
			} else if one.Runs = "yes"; !holds {
				one.Runs = "no"
			}
		}
	}
	itemKnown := t.ForEach == ""
	if c.ForEach != nil {
		one.ForEach = []string{t.ForEach}
		if s.known(c.ForEach.Tasks) {
			items, err := c.ForEach.Items(s.facts)
			if err != nil {
				s.errors = append(s.errors, err.Error())
			} else if one.ForEach = items; len(items) > 0 {
				s.facts.Item, err = c.ForEach.Item(items[0])
				itemKnown = err == nil
			}
		}
	}
	if itemKnown {
		for i, word := range t.Exec {
			if c.Exec == nil || !s.known(c.Exec[i].Tasks()) {
				one.Exec = append(one.Exec, word)
				continue
			}
			words, err := c.Exec[i].Words(s.facts)
			if err != nil {
				s.errors, words = append(s.errors, err.Error()), []string{word}
			}
			one.Exec = append(one.Exec, words...)
		}
	} else {
		one.Exec = t.Exec
	}
	values := func(texts map[string]string, compiled map[string]*expr.Template) map[string]string {
		out := make(map[string]string, len(texts))
		for _, name := range sortedNames(texts) {
			out[name] = texts[name]
			if itemKnown {
				out[name] = s.text(compiled[name], texts[name])
			}
		}
		return out
	}
	one.Env = values(t.Env, c.Env)
	if t.Start != nil {
		one.Start, one.Params = t.Start.Workflow, values(t.Start.Params, c.Params)
	}
	if t.Wait != nil {
		wait := definition.Wait{Join: t.Wait.Join, For: slices.Clone(t.Wait.For)}
		for i := range wait.For {
			of := slices.Clone(wait.For[i].Of)
			for j := range of {
				if itemKnown {
					of[j] = s.text(c.Await[i].Of[j], of[j])
				}
			}
			wait.For[i].Of = of
			wait.For[i].Subject = s.text(c.Await[i].Subject, wait.For[i].Subject)
		}
		one.Waits = wait.Words()
	}
	if t.Approve != nil {
		one.Asks = t.Approve.Ask
		if itemKnown {
			one.Asks = s.text(c.Ask, t.Approve.Ask)
		}
	}
	for _, d := range t.Updates {
		one.Updates = append(one.Updates, d.Name)
	}
	one.Errors = s.errors
	return one
}

func (a *app) printGiven(w *definition.Workflow, params definition.Values, window *client.Window, all []given) {
	p := painter(a.out)
	fmt.Fprintf(a.out, "%s  %s\n", p.strong(w.Name), p.dim("as it would be now; nothing is run"))
	for _, name := range sortedNames(params) {
		text := params.Text(params[name])
		if d, _ := w.Param(name); d.Secret && text != "" {
			text = definition.Hidden
		}
		fmt.Fprintf(a.out, "%s %s=%s\n", p.dim("param "), name, shortened(text, 120))
	}
	if window != nil {
		fmt.Fprintf(a.out, "%s %s – %s\n", p.dim("window"), window.Start.Format(time.RFC3339), window.End.Format(time.RFC3339))
	}
	line := func(name, text string) {
		if text != "" {
			fmt.Fprintf(a.out, "  %s %s\n", p.dim(fmt.Sprintf("%-8s", name)), text)
		}
	}
	for _, g := range all {
		fmt.Fprintf(a.out, "\n%s  %s\n", p.strong(g.Task), p.dim(g.Kind))
		if g.OnlyIf != "" {
			says := map[string]string{"yes": "holds", "no": "does not hold: it would be skipped", "unknown": "not known before the run"}[g.Runs]
			line("only if", g.OnlyIf+p.dim("  "+says))
		}
		if g.ForEach != nil {
			line("for each", shortened(strings.Join(g.ForEach, ", "), 90)+p.dim("  here with the first"))
		}
		if g.Exec != nil {
			quoted := make([]string, len(g.Exec))
			for i, word := range g.Exec {
				if quoted[i] = word; word == "" || strings.ContainsAny(word, " \t\n\"'\\$") {
					quoted[i] = fmt.Sprintf("%q", word)
				}
			}
			line("exec", strings.Join(quoted, " "))
		}
		line("shell", strings.ReplaceAll(strings.TrimRight(g.Shell, "\n"), "\n", "\n           "))
		if g.Start != "" {
			line("starts", g.Start)
		}
		for _, name := range sortedNames(g.Params) {
			line("param", name+"="+g.Params[name])
		}
		for _, name := range sortedNames(g.Env) {
			line("env", name+"="+g.Env[name])
		}
		if g.Waits != "" {
			line("waits", "for "+g.Waits)
		}
		line("asks", g.Asks)
		line("updates", strings.Join(g.Updates, ", "))
		line("within", strings.Join(g.Within, ", "))
		for _, name := range sortedNames(g.Takes) {
			line("takes", fmt.Sprintf("%d of %s", g.Takes[name], name))
		}
		line("timeout", g.Timeout)
		for _, err := range g.Errors {
			line("wrong", p.mark("failed", err))
		}
	}
}
