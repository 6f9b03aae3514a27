package match

import (
	"fmt"
	"strings"
)

// Pattern says which events are meant. Each field is an exact text, or ends with *
// behind a . or a /, and then means everything that begins so; empty, or * alone,
// means any. A pattern ending so does not mean the text before its last sign.
type Pattern struct{ Type, Source, Subject string }

// Fits tells whether the pattern means the event.
func (p Pattern) Fits(e Event) bool {
	return fits(p.Type, e.Type) && fits(p.Source, e.Source) && fits(p.Subject, e.Subject)
}

func fits(pattern, text string) bool {
	if before, open := strings.CutSuffix(pattern, "*"); open {
		return len(text) > len(before) && strings.HasPrefix(text, before) || pattern == "*"
	}
	return pattern == "" || pattern == text
}

// ParsePattern checks one field of a pattern. Its error says behind a semicolon
// what to write instead.
func ParsePattern(text string) error {
	at := strings.IndexByte(text, '*')
	switch {
	case at < 0 || text == "*":
		return nil
	case at < len(text)-1:
		return fmt.Errorf("%q has a * that is not at its end; write the beginning and * behind it, as in storm.*", text)
	case text[at-1] != '.' && text[at-1] != '/':
		return fmt.Errorf("%q has its * within a word; write it behind a . or a /, as in storm.*, or use where", text)
	}
	return nil
}

// Index finds the patterns that an event fits, each by a key of its own. The zero
// value is ready. It is not safe for concurrent use.
type Index[K comparable] struct {
	types  level[level[level[map[K]struct{}]]]
	places map[K]Pattern
}

// level is one field of the patterns: what is behind each text that they have there.
type level[V any] map[string]V

// Add puts a pattern into the index. A key that is there already gets the new one.
func (x *Index[K]) Add(p Pattern, key K) {
	x.Remove(key)
	if x.places == nil {
		x.types, x.places = level[level[level[map[K]struct{}]]]{}, map[K]Pattern{}
	}
	p = Pattern{anyIfEmpty(p.Type), anyIfEmpty(p.Source), anyIfEmpty(p.Subject)}
	sources := into(x.types, p.Type)
	subjects := into(sources, p.Source)
	keys := subjects[p.Subject]
	if keys == nil {
		keys = map[K]struct{}{}
		subjects[p.Subject] = keys
	}
	keys[key] = struct{}{}
	x.places[key] = p
}

func anyIfEmpty(text string) string {
	if text == "" {
		return "*"
	}
	return text
}

func into[V any](l level[level[V]], text string) level[V] {
	next := l[text]
	if next == nil {
		next = level[V]{}
		l[text] = next
	}
	return next
}

// Remove takes the pattern of a key out; it does nothing if there is none.
func (x *Index[K]) Remove(key K) {
	p, there := x.places[key]
	if !there {
		return
	}
	delete(x.places, key)
	sources := x.types[p.Type]
	subjects := sources[p.Source]
	keys := subjects[p.Subject]
	if delete(keys, key); len(keys) > 0 {
		return
	}
	if delete(subjects, p.Subject); len(subjects) > 0 {
		return
	}
	if delete(sources, p.Source); len(sources) > 0 {
		return
	}
	delete(x.types, p.Type)
}

// Len is how many patterns there are.
func (x *Index[K]) Len() int { return len(x.places) }

// Fit are the keys of the patterns that the event fits, in no order.
func (x *Index[K]) Fit(e Event) (keys []K) {
	each(x.types, e.Type, func(sources level[level[map[K]struct{}]]) {
		each(sources, e.Source, func(subjects level[map[K]struct{}]) {
			each(subjects, e.Subject, func(found map[K]struct{}) {
				for key := range found {
					keys = append(keys, key)
				}
			})
		})
	})
	return keys
}

// each visits what is behind the text itself, each beginning of it that ends with a
// . or a /, and any text.
func each[V any](l level[V], text string, visit func(V)) {
	if len(l) == 0 {
		return
	}
	if v, ok := l["*"]; ok {
		visit(v)
	}
	if v, ok := l[text]; ok && text != "" && text != "*" {
		visit(v)
	}
	for i := 0; i+1 < len(text); i++ {
		if text[i] == '.' || text[i] == '/' {
			if v, ok := l[text[:i+1]+"*"]; ok {
				visit(v)
			}
		}
	}
}
