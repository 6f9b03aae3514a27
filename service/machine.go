package service

import (
	"os"
	"runtime"
	"strconv"
	"strings"
	"time"

	"wiselantern/client"
)

// localWorker tells of the worker of this process and its machine (proc(5)); what
// cannot be read stays 0.
func localWorker(name string, slots int, since time.Time) client.Worker {
	w := client.Worker{Name: name, Slots: slots, Since: since.UTC(), Heard: time.Now().UTC(), CPUs: runtime.NumCPU(), Does: []client.Does{}}
	if text, err := os.ReadFile("/proc/loadavg"); err == nil {
		first, _, _ := strings.Cut(string(text), " ")
		w.Load, _ = strconv.ParseFloat(first, 64)
	}
	text, err := os.ReadFile("/proc/meminfo")
	if err != nil {
		return w
	}
	kilobytes := map[string]int64{}
	for line := range strings.Lines(string(text)) {
		name, rest, _ := strings.Cut(line, ":")
		if fields := strings.Fields(rest); len(fields) > 0 {
			kilobytes[name], _ = strconv.ParseInt(fields[0], 10, 64)
		}
	}
	w.Total = kilobytes["MemTotal"] << 10
	w.Memory = w.Total - kilobytes["MemAvailable"]<<10
	return w
}
