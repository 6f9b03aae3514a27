package expr

import (
	"encoding/json"
	"fmt"
	"strconv"
	"strings"
	"time"

	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/common/types/ref"
	"cel.dev/cel-go/common/types/traits"
)

func goList(value ref.Val) any {
	list, ok := value.(traits.Lister)
	if !ok {
		return value.Value()
	}
	out := []any{}
	for it := list.Iterator(); it.HasNext() == types.True; {
		out = append(out, goValue(it.Next()))
	}
	return out
}

func goMap(value ref.Val) any {
	object, ok := value.(traits.Mapper)
	if !ok {
		return value.Value()
	}
	out := map[string]any{}
	for it := object.Iterator(); it.HasNext() == types.True; {
		key := it.Next()
		out[fmt.Sprint(key.Value())] = goValue(object.Get(key))
	}
	return out
}

// Text is a value as a task sees it: text as it is, a number in its shortest
// form, a moment in RFC 3339, a list or an object as JSON, nothing as the empty
// text.
func Text(value any) string {
	switch v := value.(type) {
	case nil:
		return ""
	case string:
		return v
	case float64:
		return strconv.FormatFloat(v, 'f', -1, 64)
	case time.Time:
		return v.UTC().Format(time.RFC3339Nano)
	case time.Duration:
		return v.String()
	case []byte:
		return string(v)
	}
	text, err := json.Marshal(value)
	if err != nil {
		return fmt.Sprint(value)
	}
	return string(text)
}

// Template is a text with ${expressions} in it.
type Template struct {
	parts []part
}

// part is plain text, or an expression.
type part struct {
	text       string
	expression *Expression
}

// IsPlain tells whether a text has no expression in it and none to be escaped.
func IsPlain(text string) bool { return !strings.Contains(text, "${") }

// Template compiles a text in which ${…} stands for the value of an expression
// and $${ for the two signs ${ themselves.
func (e *Env) Template(text string, scope Scope) (*Template, []Mistake) {
	t := &Template{}
	var mistakes []Mistake
	for rest, at := text, 0; ; {
		i := strings.Index(rest, "${")
		if i < 0 {
			t.parts = append(t.parts, part{text: rest})
			return t, mistakes
		}
		if i > 0 && rest[i-1] == '$' {
			t.parts = append(t.parts, part{text: rest[:i-1] + "${"})
			rest, at = rest[i+2:], at+i+2
			continue
		}
		t.parts = append(t.parts, part{text: rest[:i]})
		length := closing(rest[i+2:])
		if length < 0 {
			return nil, append(mistakes, Mistake{1, at + i + 1, "this ${ is not closed", "write } behind the expression, or $${ for the signs themselves"})
		}
		inside := rest[i+2 : i+2+length]
		expression, wrong := e.Value(inside, scope)
		for _, m := range wrong {
			if m.Line == 1 {
				m.Column += at + i + 2
			}
			mistakes = append(mistakes, m)
		}
		t.parts = append(t.parts, part{expression: expression})
		rest, at = rest[i+3+length:], at+i+3+length
	}
}

// closing is where the } stands that closes an expression, passing over braces
// and quotes inside of it; -1 if there is none.
func closing(text string) int {
	depth := 0
	for i := 0; i < len(text); i++ {
		switch text[i] {
		case '{':
			depth++
		case '}':
			if depth == 0 {
				return i
			}
			depth--
		case '"', '\'':
			quote := text[i]
			for i++; i < len(text) && text[i] != quote; i++ {
				if text[i] == '\\' {
					i++
				}
			}
		}
	}
	return -1
}

// Text is the text with the values in their places.
func (t *Template) Text(f *Facts) (string, error) {
	var out strings.Builder
	for _, p := range t.parts {
		if p.expression == nil {
			out.WriteString(p.text)
			continue
		}
		value, err := p.expression.Eval(f)
		if err != nil {
			return "", err
		}
		out.WriteString(Text(value))
	}
	return out.String(), nil
}

// whole is the expression that the text is, nil if it is more than that.
func (t *Template) whole() *Expression {
	var whole *Expression
	for _, p := range t.parts {
		if p.expression == nil && p.text != "" || p.expression != nil && whole != nil {
			return nil
		}
		if p.expression != nil {
			whole = p.expression
		}
	}
	return whole
}

// Tasks are the tasks and the resources that the text speaks of.
func (t *Template) Tasks() (tasks []Task) {
	for _, p := range t.parts {
		if p.expression != nil {
			tasks = append(tasks, p.expression.Tasks...)
		}
	}
	return tasks
}

// Value is the value of the expression, if the text is nothing else, or the text
// with the values in their places.
func (t *Template) Value(f *Facts) (any, error) {
	if whole := t.whole(); whole != nil {
		return whole.Eval(f)
	}
	return t.Text(f)
}

// Words are the arguments that the text becomes: one, or as many as a list has
// items when the whole text is one expression whose value is a list.
func (t *Template) Words(f *Facts) ([]string, error) {
	value, err := t.Value(f)
	if err != nil {
		return nil, err
	}
	list, ok := value.([]any)
	if !ok {
		return []string{Text(value)}, nil
	}
	words := make([]string, len(list))
	for i, item := range list {
		words[i] = Text(item)
	}
	return words, nil
}
