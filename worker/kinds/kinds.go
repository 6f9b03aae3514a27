// Package kinds knows how each kind of task becomes a program to be run. A kind
// is one small package that registers itself when it is imported.
package kinds

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"wiselantern/service/dispatch"
)

// Kind makes the program and its arguments of a work order.
type Kind func(dispatch.Order) ([]string, error)

var registered = map[string]Kind{}

// Register adds a kind under the key that it has in the file.
func Register(key string, k Kind) {
	if registered[key] != nil {
		panic("the kind " + key + " is registered twice")
	}
	registered[key] = k
}

// Command is what an order runs.
func Command(o dispatch.Order) ([]string, error) {
	k := registered[o.Kind]
	if k == nil {
		return nil, fmt.Errorf("this worker knows no tasks of the kind %q, only %s; run the same version of lantern on all machines",
			o.Kind, strings.Join(slices.Sorted(maps.Keys(registered)), ", "))
	}
	return k(o)
}
