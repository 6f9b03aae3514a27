package definition

import (
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"

	"wiselantern/core/expr"
)

// Difference is one key that two versions of a workflow have differently.
type Difference struct {
	Part   string `json:"part"`             // as in "task load", "param basin", "resource scratch", or "workflow"
	Key    string `json:"key,omitempty"`    // as in "retry.times"; empty if the whole part is new or gone
	Before string `json:"before,omitempty"` // as JSON, text as it is; empty if it was not there
	After  string `json:"after,omitempty"`  // the same
}

// Differences are what a newer version of a workflow has other than an older
// one: first of the workflow itself, then of its params, resources and tasks.
// What a task inherits is told with the task.
func Differences(before, after *Workflow) (all []Difference) {
	old, now := plain(before), plain(after)
	compare := func(part string, from, to map[string]any) {
		switch {
		case from == nil:
			all = append(all, Difference{Part: part, After: "new"})
		case to == nil:
			all = append(all, Difference{Part: part, Before: "gone"})
		default:
			for _, d := range differing("", from, to) {
				d.Part = part
				all = append(all, d)
			}
		}
	}
	parts := []struct{ list, part, name string }{{"params", "param", "name"}, {"resources", "resource", "name"}, {"tasks", "task", "name"}}
	oldParts, newParts := map[string]map[string]map[string]any{}, map[string]map[string]map[string]any{}
	for _, p := range parts {
		oldParts[p.list], newParts[p.list] = named(old[p.list], p.name), named(now[p.list], p.name)
		delete(old, p.list)
		delete(now, p.list)
	}
	compare("workflow", old, now)
	for _, p := range parts {
		names := map[string]bool{}
		for name := range oldParts[p.list] {
			names[name] = true
		}
		for name := range newParts[p.list] {
			names[name] = true
		}
		for _, name := range slices.Sorted(maps.Keys(names)) {
			compare(p.part+" "+name, oldParts[p.list][name], newParts[p.list][name])
		}
	}
	return all
}

// plain is a workflow as JSON has it, with lengths of time as people write them.
func plain(w *Workflow) map[string]any {
	text, err := json.Marshal(w)
	if err != nil {
		panic("a workflow is plain data: " + err.Error())
	}
	var out map[string]any
	if err := json.Unmarshal(text, &out); err != nil {
		panic("a workflow is an object: " + err.Error())
	}
	return out
}

// named are the objects of a list by their names.
func named(list any, key string) map[string]map[string]any {
	out := map[string]map[string]any{}
	items, _ := list.([]any)
	for _, item := range items {
		if object, ok := item.(map[string]any); ok {
			name, _ := object[key].(string)
			out[name] = object
		}
	}
	return out
}

// oneOfList is what one of the items under a key is called.
func oneOfList(key string) string {
	switch key {
	case "starts":
		return "start"
	case "outside":
		return "start from outside"
	}
	return key
}

// sameLists tells whether both are lists of as many objects, which are compared one
// by one.
func sameLists(from, to any) (before, after []map[string]any, ok bool) {
	old, isOld := from.([]any)
	now, isNow := to.([]any)
	if !isOld || !isNow || len(old) != len(now) {
		return nil, nil, false
	}
	for i := range old {
		first, isFirst := old[i].(map[string]any)
		second, isSecond := now[i].(map[string]any)
		if !isFirst || !isSecond {
			return nil, nil, false
		}
		before, after = append(before, first), append(after, second)
	}
	return before, after, true
}

// differing are the keys that two objects have differently, at any depth.
func differing(prefix string, before, after map[string]any) (all []Difference) {
	keys := map[string]any{}
	maps.Copy(keys, before)
	maps.Copy(keys, after)
	for _, key := range slices.Sorted(maps.Keys(keys)) {
		from, to := before[key], after[key]
		if old, now, ok := sameLists(from, to); ok {
			for i := range old {
				all = append(all, differing(fmt.Sprintf("%s%s %d ", prefix, oneOfList(key), i+1), old[i], now[i])...)
			}
			continue
		}
		first, isFirst := from.(map[string]any)
		second, isSecond := to.(map[string]any)
		switch {
		case (isFirst || from == nil) && (isSecond || to == nil):
			all = append(all, differing(prefix+key+".", first, second)...)
		case expr.Text(from) != expr.Text(to):
			all = append(all, Difference{Key: strings.TrimSuffix(prefix+key, "."), Before: expr.Text(from), After: expr.Text(to)})
		}
	}
	return all
}
