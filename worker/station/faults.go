package station

import (
	"fmt"
	"os"
	"path/filepath"

	"wiselantern/machine"
)

// What a worker's machine must have for an attempt to begin.
const (
	leastRoom  = 16 << 20 // bytes, on the disk of its folder
	leastFiles = 64       // that may still be opened
)

// faults tells what keeps attempts from beginning on this machine.
func (s *Station) faults() (all []string) {
	probe := filepath.Join(s.home.Dir, "probe")
	if err := os.WriteFile(probe, []byte("."), 0o600); err != nil {
		all = append(all, fmt.Sprintf("nothing can be written to %s: %v", s.Dir, err))
	} else if free, _, err := machine.Room(s.Dir); err == nil && free < leastRoom {
		all = append(all, fmt.Sprintf("only %d MB are free on the disk of %s", free>>20, s.Dir))
	}
	_ = os.Remove(probe)
	open, err := machine.OpenFiles()
	most, err2 := machine.MostFiles()
	if err == nil && err2 == nil && open+leastFiles > most {
		all = append(all, fmt.Sprintf("%d of %d files are open", open, most))
	}
	return all
}
