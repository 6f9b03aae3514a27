package wiselantern

import (
	"go/parser"
	"go/token"
	"io/fs"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
)

// The arrows between the rooms: what the packages below a folder may import of
// ours. The longest prefix decides.
var arrows = map[string][]string{
	"core":             {"core"},
	"machine":          {},
	"parcel":           {},
	"client":           {"core", "client"},
	"service/store":    {"core"},
	"service/dispatch": {"core", "service/store"},
	"service/signals":  {"core"},
	"service/lookout":  {"core", "service/store"},
	"service/engine":   {"core", "service/store", "service/dispatch", "service/signals"},
	"service/access":   {"core", "service/store"},
	"service/archive":  {"service/store"},
	"service/broker":   {},
	"service/doctor":   {"machine", "parcel", "service/store"},
	"service/api":      {"core", "client", "parcel", "service/access", "service/archive", "service/dispatch", "service/engine", "service/lookout", "service/signals", "service/store"},
	"service":          {"core", "client", "machine", "parcel", "service", "worker"},
	"build":            {"core"},
	"worker":           {"core", "machine", "parcel", "service/dispatch", "service/store", "worker"},
	"console":          {},
	"demo":             {},
	"cli":              {"core", "client", "parcel", "console", "demo", "service", "worker"},
	"cmd":              {"cli", "client", "service/api", "internal"},
	"internal":         {"core", "client", "parcel", "console", "service", "internal"},
}

// outside says what a package of core may not use: it computes only.
var outside = []string{"os", "os/exec", "net", "net/http", "database/sql", "log", "log/slog"}

func TestRoomsImportOnlyWhatTheyMay(t *testing.T) {
	seen := 0
	err := filepath.WalkDir(".", func(name string, entry fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		if entry.IsDir() && (entry.Name() == "node_modules" || strings.HasPrefix(entry.Name(), ".") && name != ".") {
			return fs.SkipDir
		}
		if !strings.HasSuffix(name, ".go") || strings.HasSuffix(name, "_test.go") || filepath.Dir(name) == "." {
			return nil
		}
		file, err := parser.ParseFile(token.NewFileSet(), name, nil, parser.ImportsOnly)
		if err != nil {
			return err
		}
		seen++
		room := filepath.ToSlash(filepath.Dir(name))
		for _, spec := range file.Imports {
			path, err := strconv.Unquote(spec.Path.Value)
			if err != nil {
				return err
			}
			if to, ours := strings.CutPrefix(path, "wiselantern/"); ours && !may(room, to) {
				t.Errorf("%s imports %s; %s may import only %v", name, to, room, allowed(room))
			}
			if within(room, "core") {
				for _, bad := range outside {
					if path == bad {
						t.Errorf("%s imports %s; core computes only", name, bad)
					}
				}
			}
		}
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	if seen < 50 {
		t.Fatalf("only %d files were looked at", seen)
	}
}

func within(room, prefix string) bool { return room == prefix || strings.HasPrefix(room, prefix+"/") }

func allowed(room string) []string {
	longest := ""
	for prefix := range arrows {
		if within(room, prefix) && len(prefix) > len(longest) {
			longest = prefix
		}
	}
	return arrows[longest]
}

func may(from, to string) bool {
	for _, prefix := range allowed(from) {
		if within(to, prefix) {
			return true
		}
	}
	return false
}
