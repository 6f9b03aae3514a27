package definition

import (
	"encoding/json"
	"fmt"
	"maps"
	"math"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"
)

// Param is a typed value that a run is given.
//
// The Go type of a value is: string for text, date, moment, length and choice;
// float64 for number and whole; bool for bool; []any for list; map[string]any
// for object. A value may be nil when it is neither given, required nor
// defaulted.
type Param struct {
	Name     string   `json:"name"`
	About    string   `json:"about,omitempty"`
	Type     string   `json:"type"`
	Of       string   `json:"of,omitempty"`     // the type of a list's items
	Choice   []string `json:"choice,omitempty"` // the values of a choice
	Min      *float64 `json:"min,omitempty"`    // of a number; of the length of a text or list
	Max      *float64 `json:"max,omitempty"`
	Pattern  string   `json:"pattern,omitempty"` // RE2, matched against the whole text
	Required bool     `json:"required,omitempty"`
	Secret   bool     `json:"secret,omitempty"` // its values are given to tasks and never shown
	Default  any      `json:"default,omitempty"`
}

var paramTypes = []string{"text", "number", "whole", "bool", "date", "moment", "length", "choice", "list", "object"}

// Values are a run's params by name.
type Values map[string]any

// Fill checks the values given at a start against the declared params and adds
// the defaults. Unknown names, values of the wrong type and missing required
// ones are all told in one error.
func Fill(params []Param, given Values) (Values, error) {
	names := make([]string, len(params))
	for i, p := range params {
		names[i] = p.Name
	}
	var wrong []string
	for _, name := range sortedKeys(given) {
		if !slices.Contains(names, name) {
			message := fmt.Sprintf("there is no param %q", name)
			switch near := Nearest(name, names); {
			case near != "":
				message += fmt.Sprintf("; did you mean %q?", near)
			case len(names) == 0:
				message += "; the workflow has none"
			default:
				message += "; it has " + strings.Join(names, ", ")
			}
			wrong = append(wrong, message)
		}
	}
	filled := Values{}
	for _, p := range params {
		value, ok := given[p.Name]
		switch {
		case ok:
			checked, err := p.Check(value)
			if err != nil {
				wrong = append(wrong, fmt.Sprintf("param %q: %v", p.Name, err))
			}
			filled[p.Name] = checked
		case p.Required:
			wrong = append(wrong, fmt.Sprintf("param %q is required; give it with -p %s=VALUE", p.Name, p.Name))
		default:
			filled[p.Name] = p.Default
		}
	}
	if wrong != nil {
		return nil, fmt.Errorf("%s", strings.Join(wrong, "\n"))
	}
	return filled, nil
}

// Check is value in the type of the param, or an error that says what is wanted.
func (p Param) Check(value any) (any, error) {
	v, err := checkType(p.Type, value, p.Choice)
	if err != nil {
		return nil, p.hide(err)
	}
	switch v := v.(type) {
	case float64:
		return v, p.within(v, "")
	case string:
		if p.Pattern != "" && !regexp.MustCompile(`^(?:`+p.Pattern+`)$`).MatchString(v) {
			return nil, p.hide(fmt.Errorf("%q does not match the pattern %s", v, p.Pattern))
		}
		if p.Type == "text" {
			return v, p.within(float64(len(v)), " letters")
		}
	case []any:
		items := make([]any, len(v))
		for i, item := range v {
			if items[i], err = checkType(p.Of, item, p.Choice); err != nil {
				return nil, fmt.Errorf("item %d: %w", i+1, err)
			}
		}
		return items, p.within(float64(len(items)), " items")
	}
	return v, nil
}

// hide keeps the value of a secret out of what is said about it.
func (p Param) hide(err error) error {
	if p.Secret {
		return fmt.Errorf("the value is not as the definition wants it (it is secret, so it is not shown)")
	}
	return err
}

func (p Param) within(v float64, unit string) error {
	if p.Min != nil && v < *p.Min {
		return fmt.Errorf("%g%s is under the least, %g", v, unit, *p.Min)
	}
	if p.Max != nil && v > *p.Max {
		return fmt.Errorf("%g%s is over the most, %g", v, unit, *p.Max)
	}
	return nil
}

func checkType(kind string, value any, choice []string) (any, error) {
	switch v := value.(type) {
	case int:
		value = float64(v)
	case int64:
		value = float64(v)
	}
	text, isText := value.(string)
	number, isNumber := value.(float64)
	switch kind {
	case "text":
		switch {
		case isText:
			return text, nil
		case isNumber:
			return strconv.FormatFloat(number, 'f', -1, 64), nil
		}
	case "number":
		if isNumber && !math.IsNaN(number) && !math.IsInf(number, 0) {
			return number, nil
		}
	case "whole":
		if isNumber && number == math.Trunc(number) && math.Abs(number) <= 1<<53 {
			return number, nil
		}
	case "bool":
		if _, ok := value.(bool); ok {
			return value, nil
		}
	case "date":
		if _, err := time.Parse(time.DateOnly, text); isText && err == nil {
			return text, nil
		}
		return nil, fmt.Errorf("%s is not a date; write it as 2026-03-28", show(value))
	case "moment":
		if _, err := time.Parse(time.RFC3339, text); isText && err == nil {
			return text, nil
		}
		return nil, fmt.Errorf("%s is not a moment; write it as 2026-03-28T06:00:00+01:00 (RFC 3339)", show(value))
	case "length":
		if _, err := ParseLength(text); isText && err == nil {
			return text, nil
		}
		return nil, fmt.Errorf("%s is not a length of time; write it as 90s or 1h30m", show(value))
	case "choice":
		if isNumber {
			text = strconv.FormatFloat(number, 'f', -1, 64)
		}
		if slices.Contains(choice, text) {
			return text, nil
		}
		return nil, fmt.Errorf("%s is not one of: %s", show(value), strings.Join(choice, ", "))
	case "list":
		if _, ok := value.([]any); ok {
			return value, nil
		}
	case "object":
		if _, ok := value.(map[string]any); ok {
			return value, nil
		}
	}
	return nil, fmt.Errorf("%s is not of the type %s", show(value), kind)
}

func show(value any) string {
	text, err := json.Marshal(value)
	if err != nil {
		return fmt.Sprint(value)
	}
	return string(text)
}

// Parse reads a value as it is written on a command line: a list is items
// joined by commas or JSON, an object is JSON.
func (p Param) Parse(text string) (any, error) {
	switch p.Type {
	case "number", "whole":
		f, err := strconv.ParseFloat(text, 64)
		if err != nil {
			return nil, fmt.Errorf("%q is not of the type %s", text, p.Type)
		}
		return p.Check(f)
	case "bool":
		if text != "true" && text != "false" {
			return nil, fmt.Errorf("%q is not of the type bool; write true or false", text)
		}
		return p.Check(text == "true")
	case "object", "list":
		var value any
		if p.Type == "object" || strings.HasPrefix(text, "[") {
			if err := json.Unmarshal([]byte(text), &value); err != nil {
				return nil, fmt.Errorf("%q is not JSON: %v", text, err)
			}
			return p.Check(value)
		}
		var items []any
		for item := range strings.SplitSeq(text, ",") {
			v, err := Param{Type: p.Of, Choice: p.Choice}.Parse(item)
			if err != nil {
				return nil, err
			}
			items = append(items, v)
		}
		return p.Check(items)
	}
	return p.Check(text)
}

// Hidden stands where the value of a secret param would.
const Hidden = "(secret)"

// Shown are the values as people may see them.
func (v Values) Shown(params []Param) Values {
	shown := maps.Clone(v)
	for _, p := range params {
		if value := shown[p.Name]; p.Secret && value != nil {
			shown[p.Name] = Hidden
		}
	}
	return shown
}

// Text is the value as a task sees it in its environment: text as it is, a list
// or an object as JSON, nil as the empty text.
func (Values) Text(value any) string {
	switch v := value.(type) {
	case nil:
		return ""
	case string:
		return v
	}
	return show(value)
}

func (r *reader) params(n *node) []Param {
	var params []Param
	r.each(n, "params", func(key, value *node) {
		if !paramPattern.MatchString(key.text) || len(key.text) > longestName {
			r.problem(key, "write small letters, digits and _, beginning with a letter", "%q cannot be the name of a param", key.text)
		}
		params = append(params, r.param(key.text, value))
	})
	return params
}

func (r *reader) param(name string, n *node) Param {
	p := Param{Name: name}
	what := fmt.Sprintf("param %q", name)
	var kind, of, fallback, low, high, pattern, secret *node
	ok := r.keys(n, what, map[string]func(*node){
		"about":    func(n *node) { p.About = r.text(n, "about of "+what) },
		"type":     func(n *node) { kind = n },
		"of":       func(n *node) { of = n },
		"default":  func(n *node) { fallback = n },
		"min":      func(n *node) { low = n },
		"max":      func(n *node) { high = n },
		"pattern":  func(n *node) { pattern = n },
		"secret":   func(n *node) { secret, p.Secret = n, r.bool(n, "secret of "+what) },
		"required": func(n *node) { p.Required = r.bool(n, "required of "+what) },
	})
	if !ok {
		return p
	}
	if kind == nil {
		r.problem(n, "write one of: "+strings.Join(paramTypes, ", "), "%s has no type", what)
		return p
	}
	p.Type = r.oneOf(kind, "type of "+what, paramTypes...)
	if of != nil {
		switch p.Type {
		case "choice":
			p.Choice = r.texts(of, "of of "+what)
		case "list":
			p.Of = r.oneOf(of, "of of "+what, paramTypes[:len(paramTypes)-3]...)
		default:
			r.problem(of, "leave it out", "%s is of the type %s, which has no \"of\"", what, p.Type)
		}
	} else if p.Type == "choice" {
		r.problem(kind, "write of: [one, two]", "%s is a choice of nothing", what)
	} else if p.Type == "list" {
		p.Of = "text"
	}
	if low != nil {
		p.Min = new(r.number(low, "min of "+what, -math.MaxFloat64, math.MaxFloat64, false))
	}
	if high != nil {
		p.Max = new(r.number(high, "max of "+what, -math.MaxFloat64, math.MaxFloat64, false))
	}
	if p.Min != nil && p.Max != nil && *p.Min > *p.Max {
		r.problem(high, "swap the two", "%s has a min of %g over its max of %g", what, *p.Min, *p.Max)
	}
	if pattern != nil {
		p.Pattern = r.text(pattern, "pattern of "+what)
		if _, err := regexp.Compile(p.Pattern); err != nil {
			r.problem(pattern, "write a regular expression in RE2 syntax", "the pattern of %s: %v", what, err)
			p.Pattern = ""
		}
	}
	if p.Secret && fallback != nil {
		r.problem(fallback, "take it out, and give the value when a run is started", "%s is secret, and its default stands in the file for all to read", what)
	}
	if p.Secret && p.Type != "text" {
		r.problem(secret, "make its type text", "%s is secret and of the type %s", what, p.Type)
	}
	if fallback != nil && (p.Type != "choice" || p.Choice != nil) {
		checked, err := p.fromNode(fallback)
		if err != nil {
			r.problem(fallback, "", "the default of %s: %v", what, err)
		}
		p.Default = checked
		if p.Required {
			r.problem(fallback, "drop one of the two", "%s is required and has a default, which would never be used", what)
		}
	}
	return p
}
