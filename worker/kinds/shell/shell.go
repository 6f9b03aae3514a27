// Package shell is the kind of task that runs a script in the POSIX shell. The
// script stops at the first command that fails (set -e).
package shell

import (
	"wiselantern/service/dispatch"
	"wiselantern/worker/kinds"
)

func init() {
	kinds.Register("shell", func(o dispatch.Order) ([]string, error) {
		return []string{"/bin/sh", "-e", "-c", o.Shell, o.TaskName}, nil
	})
}
