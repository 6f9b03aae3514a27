package machine

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
)

func TestWhatTheMachineTells(t *testing.T) {
	dir := t.TempDir()
	if free, whole, err := Room(dir); err != nil || whole == 0 || free > whole {
		t.Errorf("%d of %d bytes are free, %v", free, whole, err)
	}
	if _, _, err := Room(filepath.Join(dir, "nowhere")); err == nil {
		t.Error("a folder that is not there has room")
	}
	before, err := OpenFiles()
	if err != nil {
		t.Fatal(err)
	}
	file, err := os.Open(dir)
	if err != nil {
		t.Fatal(err)
	}
	defer file.Close()
	if after, err := OpenFiles(); err != nil || after <= before {
		t.Errorf("%d files were open and %d are, %v", before, after, err)
	}
	if err := YieldMemory(); err != nil {
		t.Error(err)
	}
	if text, err := os.ReadFile("/proc/self/oom_score_adj"); err != nil || strings.TrimSpace(string(text)) < "300" {
		t.Errorf("it yields memory by %s, %v", text, err)
	}
	if most, err := MostFiles(); err != nil || most < before {
		t.Errorf("%d may be open, %v", most, err)
	}
	if used, whole := Memory(); used <= 0 || used >= whole {
		t.Errorf("%d of %d bytes are in use", used, whole)
	}
	if load := Load(); load < 0 {
		t.Errorf("the load is %v", load)
	}
}

func TestTheMemoryOfAGroup(t *testing.T) {
	for _, one := range []struct {
		current, max string
		used, most   int64
	}{{"1048576\n", "2097152\n", 1 << 20, 2 << 20}, {"1048576\n", "max\n", 1 << 20, 0}, {"", "", 0, 0}} {
		dir := t.TempDir() + "/"
		if one.current != "" {
			for name, text := range map[string]string{"memory.current": one.current, "memory.max": one.max} {
				if err := os.WriteFile(dir+name, []byte(text), 0o600); err != nil {
					t.Fatal(err)
				}
			}
		}
		if used, most := groupMemory(dir); used != one.used || most != one.most {
			t.Errorf("%q of %q is read as %d of %d", one.current, one.max, used, most)
		}
	}
}
