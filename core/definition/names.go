package definition

import (
	"regexp"
	"strings"
)

var (
	namePattern  = regexp.MustCompile(`^[a-z][a-z0-9-]*$`)
	taskPattern  = regexp.MustCompile(`^[a-z][a-z0-9-]*(/[a-z][a-z0-9-]*)*$`)
	paramPattern = regexp.MustCompile(`^[a-z][a-z0-9_]*$`)
	envPattern   = regexp.MustCompile(`^[A-Za-z_][A-Za-z0-9_]*$`)
)

// IsName tells whether text can be the name of a workflow, a project or a
// capacity.
func IsName(text string) bool { return namePattern.MatchString(text) && len(text) <= longestName }

// longestName bounds the length of every name, in bytes.
const longestName = 100

// Nearest is the known name that a person most likely meant by name, or "" if
// none is close: at most a third of its letters differ.
func Nearest(name string, known []string) string {
	best, bestDistance := "", len(name)/3+1
	for _, candidate := range known {
		if d := distance(strings.ToLower(name), candidate, bestDistance); d <= bestDistance && (best == "" || d < bestDistance) {
			best, bestDistance = candidate, d
		}
	}
	return best
}

// distance is how many letters have to be added, dropped, replaced or swapped
// with their neighbour to make b of a (optimal string alignment); a value over
// limit is only known to be over it.
func distance(a, b string, limit int) int {
	if abs(len(a)-len(b)) > limit {
		return limit + 1
	}
	var last, row, next []int
	for j := range len(b) + 1 {
		row = append(row, j)
	}
	last, next = make([]int, len(b)+1), make([]int, len(b)+1)
	for i := 1; i <= len(a); i++ {
		next[0] = i
		for j := 1; j <= len(b); j++ {
			cost := 1
			if a[i-1] == b[j-1] {
				cost = 0
			}
			next[j] = min(row[j]+1, next[j-1]+1, row[j-1]+cost)
			if i > 1 && j > 1 && a[i-1] == b[j-2] && a[i-2] == b[j-1] {
				next[j] = min(next[j], last[j-2]+1)
			}
		}
		last, row, next = row, next, last
	}
	return row[len(b)]
}

func abs(n int) int {
	if n < 0 {
		return -n
	}
	return n
}
