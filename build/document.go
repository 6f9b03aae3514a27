package build

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/goccy/go-yaml"

	"wiselantern/core/definition"
)

// keys is a mapping of the file, in the order in which it is written.
type keys yaml.MapSlice

// put adds a key, unless its value is the zero value of its type.
func put[T comparable](k *keys, key string, value T) {
	var zero T
	if value != zero {
		k.set(key, value)
	}
}

func (k *keys) set(key string, value any) { *k = append(*k, yaml.MapItem{Key: key, Value: value}) }

func (k *keys) list(key string, values []string) {
	if len(values) > 0 {
		k.set(key, values)
	}
}

func (k *keys) length(key string, length time.Duration) {
	if length != 0 {
		k.set(key, definition.Length(length).String())
	}
}

// sorted adds a mapping whose keys are names, in their order.
func sorted[V any](k *keys, key string, values map[string]V) {
	if len(values) == 0 {
		return
	}
	var inner keys
	for _, name := range slices.Sorted(maps.Keys(values)) {
		inner.set(name, values[name])
	}
	k.set(key, yaml.MapSlice(inner))
}

func (w *Workflow) document() yaml.MapSlice {
	k := keys{{Key: "workflow", Value: w.Name}}
	put(&k, "about", w.About)
	put(&k, "owner", w.Owner)
	k.list("labels", w.Labels)
	var params keys
	for _, p := range w.Params {
		params.set(p.Name, p.document())
	}
	if params != nil {
		k.set("params", yaml.MapSlice(params))
	}
	var starts []yaml.MapSlice
	for _, s := range w.Starts {
		var one keys
		one.length("every", s.Every)
		put(&one, "cron", s.Cron)
		put(&one, "rrule", s.RRule)
		one.list("at", s.At)
		put(&one, "between", s.Between)
		one.list("on", s.On)
		put(&one, "zone", s.Zone)
		put(&one, "from", s.From)
		put(&one, "until", s.Until)
		one.list("except", s.Except)
		one.length("delay", s.Delay)
		one.length("spread", s.Spread)
		put(&one, "covers", s.Covers.Unit)
		if s.Covers.Length > 0 {
			var covers keys
			covers.length("length", s.Covers.Length)
			if ends := s.Covers.Ends; ends < 0 {
				covers.set("ends", "-"+definition.Length(-ends).String())
			} else {
				covers.length("ends", ends)
			}
			one.set("covers", yaml.MapSlice(covers))
		}
		put(&one, "missed", s.Missed)
		sorted(&one, "params", s.Params)
		starts = append(starts, yaml.MapSlice(one))
	}
	for _, o := range w.Outside {
		starts = append(starts, o.document())
	}
	if starts != nil {
		k.set("starts", starts)
	}
	put(&k, "only_if", w.OnlyIf)
	put(&k, "if_running", w.IfRunning)
	put(&k, "at_most", w.AtMost)
	put(&k, "priority", w.Priority)
	k.length("deadline", w.Deadline)
	put(&k, "due_by", w.DueBy)
	var defaults keys
	w.Defaults.add(&defaults)
	if defaults != nil {
		k.set("defaults", yaml.MapSlice(defaults))
	}
	var resources keys
	for _, r := range w.resources {
		resources.set(r.name, r.document())
	}
	if resources != nil {
		k.set("resources", yaml.MapSlice(resources))
	}
	tasks := keys{}
	for _, t := range w.tasks {
		tasks.set(t.name, t.document())
	}
	k.set("tasks", yaml.MapSlice(tasks))
	sorted(&k, "result", w.Result)
	var marks keys
	for _, m := range w.Watermarks {
		one := keys{{Key: "type", Value: m.Type}}
		put(&one, "about", m.About)
		put(&one, "of", m.Of)
		if m.Initial != nil {
			one.set("initial", m.Initial)
		}
		put(&one, "set", m.Set)
		marks.set(m.Name, yaml.MapSlice(one))
	}
	if marks != nil {
		k.set("watermarks", yaml.MapSlice(marks))
	}
	return yaml.MapSlice(k)
}

func (p Param) document() yaml.MapSlice {
	k := keys{{Key: "type", Value: p.Type}}
	put(&k, "about", p.About)
	k.list("of", p.Choice)
	put(&k, "of", p.Of)
	if p.Default != nil {
		k.set("default", p.Default)
	}
	for _, bound := range []struct {
		key   string
		value *float64
	}{{"min", p.Min}, {"max", p.Max}} {
		if bound.value != nil {
			k.set(bound.key, *bound.value)
		}
	}
	put(&k, "pattern", p.Pattern)
	put(&k, "required", p.Required)
	put(&k, "secret", p.Secret)
	return yaml.MapSlice(k)
}

func (s Settings) add(k *keys) {
	sorted(k, "env", s.Env)
	k.length("timeout", s.Timeout)
	put(k, "queue", s.Queue)
	if s.Retry == nil {
		return
	}
	retry := keys{{Key: "times", Value: s.Retry.Times}}
	retry.length("pause", s.Retry.Pause)
	put(&retry, "growth", s.Retry.Growth)
	retry.length("cap", s.Retry.Cap)
	if s.Retry.Spread != nil {
		retry.set("spread", fmt.Sprintf("%g%%", *s.Retry.Spread*100))
	}
	k.set("retry", yaml.MapSlice(retry))
}

func (d Doing) add(k *keys) {
	put(k, "about", d.About)
	k.list("exec", d.exec)
	put(k, "shell", d.shell)
	d.Settings.add(k)
	sorted(k, "outcomes", d.Outcomes)
	sorted(k, "takes", d.Takes)
	if d.Once {
		k.set("repeatable", false)
	}
}

func withinOf(k *keys, resources []*Resource) {
	var names []string
	for _, r := range resources {
		names = append(names, r.name)
	}
	k.list("within", names)
}

func (r *Resource) document() yaml.MapSlice {
	var k, open, close keys
	put(&k, "about", r.About)
	withinOf(&k, r.within)
	r.Open.add(&open)
	r.Close.add(&close)
	k.set("open", yaml.MapSlice(open))
	k.set("close", yaml.MapSlice(close))
	put(&k, "close_must_succeed", r.CloseMustSucceed)
	return yaml.MapSlice(k)
}

func (t *Task) document() yaml.MapSlice {
	var k, after keys
	for _, e := range t.after {
		words := make([]string, len(e.outcomes))
		for i, o := range e.outcomes {
			words[i] = string(o)
		}
		name := e.task.name
		if e.previous {
			name += "@previous"
		}
		after.set(name, strings.Join(words, "|"))
	}
	if after != nil {
		k.set("after", yaml.MapSlice(after))
	}
	put(&k, "join", t.Join)
	put(&k, "otherwise", t.Otherwise)
	put(&k, "only_if", t.OnlyIf)
	put(&k, "for_each", t.ForEach)
	put(&k, "at_once", t.AtOnce)
	put(&k, "stop_on_first", t.StopOnFirst)
	withinOf(&k, t.within)
	t.Doing.add(&k)
	if t.route != nil {
		rules := []yaml.MapSlice{}
		for _, r := range t.route {
			var to []string
			for _, task := range r.To {
				to = append(to, task.name)
			}
			rule := keys{{Key: "if", Value: r.If}, {Key: "to", Value: to}}
			if r.If == "" {
				rule = keys{{Key: "else", Value: to}}
			}
			rules = append(rules, yaml.MapSlice(rule))
		}
		k.set("route", rules)
	}
	if t.start != nil {
		start := keys{{Key: "workflow", Value: t.start.Workflow}}
		sorted(&start, "params", t.start.Params)
		if t.start.NoWindow {
			start.set("window", "none")
		}
		if t.start.NoWait {
			start.set("wait", false)
		}
		k.set("start", yaml.MapSlice(start))
	}
	t.addOutside(&k)
	put(&k, "may_fail", t.MayFail)
	return yaml.MapSlice(k)
}
