// Package exec is the kind of task that runs a program with its arguments.
package exec

import (
	"wiselantern/service/dispatch"
	"wiselantern/worker/kinds"
)

func init() {
	kinds.Register("exec", func(o dispatch.Order) ([]string, error) { return o.Exec, nil })
}
