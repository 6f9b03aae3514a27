package definition

import (
	"encoding/json"
	"fmt"
	"hash/fnv"
	"path"
	"slices"
	"strings"
	"time"

	"wiselantern/core/calendar"
)

// Start is a time rule: exactly one of Every, Cron, RRule and At is set.
type Start struct {
	Every   Length         `json:"every,omitempty"`
	Cron    string         `json:"cron,omitempty"`
	RRule   string         `json:"rrule,omitempty"`
	At      []string       `json:"at,omitempty"`
	Between string         `json:"between,omitempty"`
	On      []string       `json:"on,omitempty"`
	Zone    string         `json:"zone"` // a name of the IANA time zone database
	From    string         `json:"from,omitempty"`
	Until   string         `json:"until,omitempty"`
	Except  []string       `json:"except,omitempty"` // dates and ranges of dates; those of a file written out
	Delay   Length         `json:"delay,omitempty"`
	Spread  Length         `json:"spread,omitempty"` // it is due up to that much later, always by the same
	Covers  *Covers        `json:"covers,omitempty"`
	Missed  string         `json:"missed"` // each, newest, none
	Params  map[string]any `json:"params,omitempty"`
}

// Covers says what the window of a start is; nil is what lies between its moments.
type Covers struct {
	Unit   string `json:"unit,omitempty"` // day, week, month
	Length Length `json:"length,omitempty"`
	Ends   string `json:"ends,omitempty"` // as in -2h, from the moment of the rule
}

// The words of Missed.
const (
	MissedEach   = "each"   // each window that was missed gets its run
	MissedNewest = "newest" // the newest of them alone
	MissedNone   = "none"
)

// Rule is the start as a rule of the calendar, for the workflow of that name. A
// start that was read without problems always has one.
func (s Start) Rule(workflow string) (calendar.Rule, error) {
	zone, err := time.LoadLocation(s.Zone)
	if err != nil {
		return calendar.Rule{}, err
	}
	spec := calendar.Spec{Every: s.Every.Duration(), Cron: s.Cron, RRule: s.RRule, At: s.At, Between: s.Between, On: s.On, From: s.From, Until: s.Until,
		Except: s.Except, Delay: s.Delay.Duration(), Zone: zone}
	if s.Spread > 0 {
		hash := fnv.New64a()
		hash.Write([]byte(workflow))
		spec.Delay += time.Duration(hash.Sum64() % uint64(s.Spread)).Truncate(time.Second)
	}
	if c := s.Covers; c != nil {
		spec.Covers.Unit = c.Unit
		if spec.Covers.Length = c.Length.Duration(); spec.Covers.Length%(24*time.Hour) == 0 {
			spec.Covers.Days, spec.Covers.Length = int(spec.Covers.Length/(24*time.Hour)), 0
		}
		if c.Ends != "" {
			ends, err := ParseLength(strings.TrimPrefix(c.Ends, "-"))
			if err != nil {
				return calendar.Rule{}, fmt.Errorf("ends of covers: %w", err)
			}
			if spec.Covers.Ends = ends.Duration(); strings.HasPrefix(c.Ends, "-") {
				spec.Covers.Ends = -spec.Covers.Ends
			}
		}
	}
	return calendar.New(spec)
}

// String is the start in a few words, as in "every 1h, Europe/Oslo".
func (s Start) String() string {
	rule, err := s.Rule("")
	if err != nil {
		return err.Error()
	}
	text := rule.Words() + ", " + s.Zone
	if s.Delay > 0 {
		text += ", " + s.Delay.String() + " later"
	}
	if s.Covers != nil && s.Covers.Unit != "" {
		text += ", for the " + s.Covers.Unit + " before"
	} else if s.Covers != nil {
		text += ", for " + s.Covers.Length.String()
	}
	return text
}

// Schedule is the starts of a workflow that give a run the same params, together.
type Schedule struct {
	calendar.Schedule
	Key    string // the params as JSON, by which the schedule is known from version to version
	Params map[string]any
	Starts []Start          // one a rule of the schedule
	Zones  []*time.Location // the same
}

// Schedules are the schedules of a workflow, in the order of its starts.
func (w *Workflow) Schedules() (all []Schedule, err error) {
	rules := map[string][]calendar.Rule{}
	for _, s := range w.Starts {
		rule, err := s.Rule(w.Name)
		if err != nil {
			return nil, fmt.Errorf("a start of workflow %s: %w", w.Name, err)
		}
		key := "{}"
		if len(s.Params) > 0 {
			text, err := json.Marshal(s.Params)
			if err != nil {
				return nil, err
			}
			key = string(text)
		}
		at := slices.IndexFunc(all, func(other Schedule) bool { return other.Key == key })
		if at < 0 {
			at = len(all)
			all = append(all, Schedule{Key: key, Params: s.Params})
		}
		all[at].Starts, all[at].Zones = append(all[at].Starts, s), append(all[at].Zones, rule.Zone())
		rules[key] = append(rules[key], rule)
	}
	for i := range all {
		all[i].Schedule = calendar.NewSchedule(rules[all[i].Key]...)
	}
	return all, nil
}

func (r *reader) starts(n *node) (starts []Start, outside []Outside) {
	if n.kind != sequence {
		r.problem(n, "write a list, as in [{every: 1h}]", "starts is %s", n.kind)
		return nil, nil
	}
	for i, item := range n.items {
		what := fmt.Sprintf("start %d", i+1)
		if kind, more := outsideKey(item); more != nil {
			r.problem(more, "make two starts of it", "%s is for two things", what)
		} else if kind != "" {
			if o, ok := r.outside(item, kind, what); ok {
				if slices.ContainsFunc(outside, func(other Outside) bool { return other.Key() == o.Key() }) {
					r.problem(item, "take one of them out", "%s is for the same as one before it", what)
				}
				outside = append(outside, o)
			}
		} else if s, ok := r.start(item, what); ok {
			starts = append(starts, s)
		}
	}
	return starts, outside
}

func (r *reader) start(n *node, what string) (Start, bool) {
	s := Start{Zone: "UTC", Missed: MissedEach}
	var rules []*node
	before := len(r.problems)
	rule := func(read func(*node)) func(*node) {
		return func(n *node) {
			rules = append(rules, n)
			read(n)
		}
	}
	ok := r.keys(n, what, map[string]func(*node){
		"every": rule(func(n *node) {
			if s.Every = r.length(n, "every of "+what); s.Every == 0 && len(r.problems) == before {
				r.problem(n, "write 1s or more", "%s: a step of 0s is not a whole number of seconds", what)
			}
		}),
		"cron":    rule(func(n *node) { s.Cron = r.text(n, "cron of "+what) }),
		"rrule":   rule(func(n *node) { s.RRule = r.text(n, "rrule of "+what) }),
		"at":      rule(func(n *node) { s.At = r.textOrTexts(n, "at of "+what) }),
		"between": func(n *node) { s.Between = r.text(n, "between of "+what) },
		"on":      func(n *node) { s.On = r.textOrTexts(n, "on of "+what) },
		"zone":    func(n *node) { s.Zone = r.zone(n, "zone of "+what) },
		"from":    func(n *node) { s.From = r.text(n, "from of "+what) },
		"until":   func(n *node) { s.Until = r.text(n, "until of "+what) },
		"except":  func(n *node) { s.Except = r.except(n, what) },
		"delay":   func(n *node) { s.Delay = r.length(n, "delay of "+what) },
		"spread":  func(n *node) { s.Spread = r.length(n, "spread of "+what) },
		"covers":  func(n *node) { s.Covers = r.covers(n, what) },
		"missed":  func(n *node) { s.Missed = r.oneOf(n, "missed of "+what, MissedEach, MissedNewest, MissedNone) },
		"params": func(n *node) {
			s.Params = map[string]any{}
			r.each(n, "params of "+what, func(key, value *node) {
				s.Params[key.text] = nil
				r.startParams = append(r.startParams, startParam{s.Params, key, value})
			})
		},
	})
	switch {
	case !ok:
		return s, false
	case rules == nil:
		r.problem(n, "give it one of: every, cron, rrule, at, event, file, dataset, workflow", "%s says nothing of what it is for", what)
		return s, false
	case len(rules) > 1:
		r.problem(rules[1], "make two starts of it", "%s has two time rules", what)
		return s, false
	}
	if len(r.problems) == before {
		if _, err := s.Rule(""); err != nil {
			at := rules[0]
			for _, p := range n.pairs { // an error begins with the key that it is about
				if strings.HasPrefix(err.Error(), p.key.text+" ") || strings.HasPrefix(err.Error(), p.key.text+":") {
					at = p.value
				}
			}
			r.explain(at, what, err)
		}
	}
	return s, true
}

func (r *reader) textOrTexts(n *node, what string) []string {
	if n.kind == sequence {
		return r.texts(n, what)
	}
	return []string{r.text(n, what)}
}

// except reads dates, ranges of dates, and .ics files of the project.
func (r *reader) except(n *node, what string) (list []string) {
	items := []*node{n}
	if n.kind == sequence {
		items = n.items
	}
	for _, item := range items {
		text := r.text(item, "except of "+what)
		if path.Ext(text) != ".ics" {
			list = append(list, text)
			continue
		}
		content, there := r.tables[text]
		if !there {
			r.problem(item, "write the path as it is in the project's folder", "there is no file %s", text)
			continue
		}
		dates, err := calendar.Holidays(content)
		if err != nil {
			r.problem(item, "save it as iCalendar (RFC 5545)", "%s: %v", text, err)
		}
		list = append(list, dates...)
	}
	return list
}

func (r *reader) covers(n *node, what string) *Covers {
	c := &Covers{}
	if n.kind == scalar {
		c.Unit = r.oneOf(n, "covers of "+what, "day", "week", "month", "{length: 1d}")
		return c
	}
	r.keys(n, "covers of "+what, map[string]func(*node){
		"length": func(n *node) { c.Length = r.length(n, "length of covers of "+what) },
		"ends":   func(n *node) { c.Ends = r.text(n, "ends of covers of "+what) },
	})
	if c.Length == 0 {
		r.problem(n, "add length: 1d", "covers of %s has no length", what)
	}
	return c
}

// startParam is a value that a start gives, to be read when the params are known.
type startParam struct {
	into       map[string]any
	key, value *node
}

// checkStartParams reads what starts give, by the types of the params.
func (r *reader) checkStartParams(w *Workflow) {
	var names []string
	for _, p := range w.Params {
		names = append(names, p.Name)
	}
	for _, given := range r.startParams {
		p, known := w.Param(given.key.text)
		if !known {
			fix := "the params are: " + listed(names)
			if near := Nearest(given.key.text, names); near != "" {
				fix = fmt.Sprintf("did you mean %q?", near)
			}
			r.problem(given.key, fix, "there is no param %q", given.key.text)
			continue
		}
		if p.Secret {
			r.problem(given.value, "take it out, and give the value when a run is started", "param %q is secret, and its value stands in the file for all to read", p.Name)
			continue
		}
		value, err := p.fromNode(given.value)
		if err != nil {
			r.problem(given.value, "", "param %q: %v", p.Name, err)
		}
		given.into[p.Name] = value
	}
	r.startParams = nil
}
