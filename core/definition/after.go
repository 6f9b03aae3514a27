package definition

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
)

// Dependency is one task that another comes after, and how it is expected to
// come out.
type Dependency struct {
	Task   string   `json:"task"`
	Expect []string `json:"expect"` // settled states, in the order of Settled
}

// Settled are the outcomes that a task can have, by which others depend on it.
var Settled = []string{"succeeded", "failed", "skipped", "unreached", "stopped"}

// words of a definition that stand for several outcomes.
var outcomeWords = map[string][]string{
	"clear":   {"succeeded", "skipped"},
	"settled": Settled,
}

// Join says how many of a task's dependencies must come out as expected.
type Join struct {
	Kind  string `json:"kind"` // one of the words of Joins, or "count"
	Count int    `json:"count,omitempty"`
}

// Joins are the words for a join: all of them; any, once all have settled; the
// first that does.
var Joins = []string{"all", "any", "first"}

// Otherwise says what becomes of a task whose join can no longer hold. Empty,
// it is unreached if a dependency went badly, and skipped if none did.
var otherwiseWords = []string{"skip", "hold", "fail"}

// ExitCodes maps exit codes From to To, both included, to an outcome.
type ExitCodes struct {
	From    int    `json:"from"`
	To      int    `json:"to"`
	Outcome string `json:"outcome"` // one of the words of exitWords
}

var exitWords = []string{"succeeded", "skipped", "retry", "failed"}

// dependency is a Dependency as the file has it: its name may be a group.
type dependency struct {
	name   string
	expect []string
	at     *node
}

// after reads a name, a list of names, or a map from name to outcome.
func (r *reader) after(n *node, what string) (found []dependency) {
	succeeded := []string{"succeeded"}
	switch n.kind {
	case scalar:
		return []dependency{{n.text, succeeded, n}}
	case sequence:
		for i, item := range n.items {
			name := r.text(item, fmt.Sprintf("item %d of after of %s", i+1, what))
			if item.kind == scalar {
				found = append(found, dependency{name, succeeded, item})
			}
		}
		return found
	case mapping:
		r.each(n, "after of "+what, func(key, value *node) {
			found = append(found, dependency{key.text, r.outcomes(value, "after of "+what), key})
		})
		return found
	}
	r.problem(n, "write the name of a task, a list of names, or names and outcomes", "after of %s is %s", what, n.kind)
	return nil
}

// outcomes reads one or several outcomes joined by |, in the order of Settled.
func (r *reader) outcomes(n *node, what string) (expect []string) {
	words := append(slices.Clone(Settled), sortedKeys(outcomeWords)...)
	for word := range strings.SplitSeq(r.text(n, "an outcome of "+what), "|") {
		word = strings.TrimSpace(word)
		switch {
		case slices.Contains(Settled, word):
			expect = append(expect, word)
		case outcomeWords[word] != nil:
			expect = append(expect, outcomeWords[word]...)
		case n.kind == scalar:
			fix := "write one of: " + strings.Join(words, ", ") + "; or several joined by |"
			if near := Nearest(word, words); near != "" {
				fix = fmt.Sprintf("did you mean %q?", near)
			}
			r.problem(n, fix, "%s expects the outcome %q", what, word)
		}
	}
	slices.SortFunc(expect, func(a, b string) int { return slices.Index(Settled, a) - slices.Index(Settled, b) })
	return slices.Compact(expect)
}

// ExpectWord is what the file says for these outcomes, in the fewest words.
func (d Dependency) ExpectWord() string {
	for _, word := range sortedKeys(outcomeWords) {
		if slices.Equal(d.Expect, outcomeWords[word]) {
			return word
		}
	}
	return strings.Join(d.Expect, "|")
}

// members are the tasks that a name stands for: itself, or with /* those of the
// group.
func members(name string, tasks []string) (found []string) {
	group, isGroup := strings.CutSuffix(name, "*")
	if !isGroup || !strings.HasSuffix(group, "/") {
		if slices.Contains(tasks, name) {
			return []string{name}
		}
		return nil
	}
	for _, task := range tasks {
		if strings.HasPrefix(task, group) {
			found = append(found, task)
		}
	}
	return found
}

func (r *reader) join(n *node, what string) Join {
	word := r.text(n, "join of "+what)
	if count, err := strconv.Atoi(word); err == nil {
		if count < 1 {
			r.problem(n, "write a number from 1", "join of %s is %d", what, count)
		}
		return Join{Kind: "count", Count: count}
	}
	return Join{Kind: r.oneOf(n, "join of "+what, append(slices.Clone(Joins), "a number")...)}
}

// exitCodes reads a map from exit codes, or ranges of them, to outcomes.
func (r *reader) exitCodes(n *node, what string) (codes []ExitCodes) {
	r.each(n, "outcomes of "+what, func(key, value *node) {
		first, last, ranged := strings.Cut(key.text, "..")
		if !ranged {
			last = first
		}
		from, err1 := strconv.Atoi(first)
		to, err2 := strconv.Atoi(last)
		one := ExitCodes{From: from, To: to, Outcome: r.oneOf(value, fmt.Sprintf("the outcome of exit code %s of %s", key.text, what), exitWords...)}
		switch {
		case err1 != nil || err2 != nil || from < 0 || to > 255 || from > to:
			r.problem(key, "write a number from 0 to 255, or a range as in 64..74", "%q is not an exit code", key.text)
			return
		case slices.ContainsFunc(codes, func(other ExitCodes) bool { return from <= other.To && other.From <= to }):
			r.problem(key, "let each code stand once", "the exit codes %s of %s stand in outcomes already", key.text, what)
			return
		}
		codes = append(codes, one)
	})
	return codes
}
