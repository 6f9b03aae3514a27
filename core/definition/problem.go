package definition

import (
	"fmt"
	"sort"
	"strings"
)

// Problem is one mistake in a file. Line and Column count from 1; both are 0
// when the problem is with the file as a whole.
type Problem struct {
	File    string `json:"file"`
	Line    int    `json:"line"`
	Column  int    `json:"column"`
	Text    string `json:"text,omitempty"` // the line of the file
	Message string `json:"message"`        // what is wrong
	Fix     string `json:"fix,omitempty"`  // what to write instead
}

// String is the problem as a terminal shows it: place and message, the line, and
// under its column a mark and what to write instead.
func (p Problem) String() string {
	var out strings.Builder
	out.WriteString(p.File)
	if p.Line > 0 {
		fmt.Fprintf(&out, ":%d:%d", p.Line, p.Column)
	}
	out.WriteString(": " + p.Message)
	if p.Text == "" && p.Fix != "" {
		out.WriteString("; " + p.Fix)
	}
	if p.Text != "" {
		gutter := fmt.Sprintf("%5d | ", p.Line)
		pad := strings.Map(func(r rune) rune {
			if r == '\t' {
				return '\t'
			}
			return ' '
		}, clip(p.Text, p.Column-1))
		fmt.Fprintf(&out, "\n%s%s\n%s%s^", gutter, p.Text, strings.Repeat(" ", len(gutter)), pad)
		if p.Fix != "" {
			out.WriteString(" " + p.Fix)
		}
	}
	return out.String()
}

func clip(text string, runes int) string {
	for i := range text {
		if runes <= 0 {
			return text[:i]
		}
		runes--
	}
	return text
}

// Problems are all mistakes found, as one error.
type Problems []Problem

// Error lists the problems, one after the other.
func (p Problems) Error() string {
	lines := make([]string, len(p))
	for i, problem := range p {
		lines[i] = problem.String()
	}
	return strings.Join(lines, "\n")
}

func (p Problems) sorted() Problems {
	sort.SliceStable(p, func(i, j int) bool {
		if p[i].File != p[j].File {
			return p[i].File < p[j].File
		}
		return p[i].Line < p[j].Line || p[i].Line == p[j].Line && p[i].Column < p[j].Column
	})
	return p
}
