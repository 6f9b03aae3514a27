package station

import (
	"os"
	"strconv"
	"strings"
)

// machine tells the load of this machine, the mean of a minute, and its memory in
// bytes (proc(5)); what cannot be read stays 0.
func machine() (load float64, used, total int64) {
	if text, err := os.ReadFile("/proc/loadavg"); err == nil {
		first, _, _ := strings.Cut(string(text), " ")
		load, _ = strconv.ParseFloat(first, 64)
	}
	text, err := os.ReadFile("/proc/meminfo")
	if err != nil {
		return load, 0, 0
	}
	kilobytes := map[string]int64{}
	for line := range strings.Lines(string(text)) {
		name, rest, _ := strings.Cut(line, ":")
		if fields := strings.Fields(rest); len(fields) > 0 {
			kilobytes[name], _ = strconv.ParseInt(fields[0], 10, 64)
		}
	}
	total = kilobytes["MemTotal"] << 10
	return load, total - kilobytes["MemAvailable"]<<10, total
}
