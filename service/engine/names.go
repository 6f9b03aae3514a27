package engine

import (
	"database/sql"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"
)

// sortedNames are the keys of a map in order.
func sortedNames[V any](m map[string]V) []string { return slices.Sorted(maps.Keys(m)) }

// plural is a number of things, as in "1 file" or "3 files".
func plural(n int, one string) string {
	if n == 1 {
		return "1 " + one
	}
	return fmt.Sprintf("%d %ss", n, one)
}

// cutNode is the name of a node of a link, if it is of that kind.
func cutNode(node, kind string) (string, bool) { return strings.CutPrefix(node, kind) }

// rawResult is a recorded result as expressions know it, nil if there is none.
func rawResult(text sql.NullString) any {
	var result map[string]any
	if !text.Valid || json.Unmarshal([]byte(text.String), &result) != nil {
		return nil
	}
	return result
}
