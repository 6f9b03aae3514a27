package parcel

import (
	"archive/tar"
	"bytes"
	"compress/gzip"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

func write(t *testing.T, name, text string, mode os.FileMode) {
	t.Helper()
	if err := os.MkdirAll(filepath.Dir(name), 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(name, []byte(text), mode); err != nil {
		t.Fatal(err)
	}
}

func TestAFolderComesBackAsItWas(t *testing.T) {
	from := t.TempDir()
	write(t, filepath.Join(from, "bin", "collect"), "#!/bin/sh\n", 0o755)
	write(t, filepath.Join(from, "lib", "deep", "note"), "a note", 0o600)
	write(t, filepath.Join(from, ".git", "config"), "x", 0o644)
	write(t, filepath.Join(from, "old-data", "lantern.db"), "x", 0o644)
	if err := os.Symlink("deep/note", filepath.Join(from, "lib", "link")); err != nil {
		t.Fatal(err)
	}
	packed, err := Pack(from)
	if err != nil || packed.Files != 3 {
		t.Fatalf("%+v %v", packed, err)
	}
	later := time.Now().Add(time.Hour)
	if err := os.Chtimes(filepath.Join(from, "bin", "collect"), later, later); err != nil {
		t.Fatal(err)
	}
	if again, err := Pack(from); err != nil || again.Name != packed.Name {
		t.Errorf("the same files have another name: %v", err)
	}
	dir := filepath.Join(t.TempDir(), "parcels", packed.Name)
	if err := Unpack(bytes.NewReader(packed.Archive), packed.Name, dir); err != nil {
		t.Fatal(err)
	}
	work := t.TempDir()
	if err := Lay(dir, work); err != nil {
		t.Fatal(err)
	}
	for name, want := range map[string]string{"bin/collect": "#!/bin/sh\n", "lib/deep/note": "a note", "lib/link": "a note"} {
		got, err := os.ReadFile(filepath.Join(work, name))
		if err != nil || string(got) != want {
			t.Errorf("%s: %q %v", name, got, err)
		}
	}
	for name, want := range map[string]os.FileMode{"bin/collect": 0o555, "lib/deep/note": 0o444} {
		if info, err := os.Stat(filepath.Join(work, name)); err != nil || info.Mode() != want {
			t.Errorf("%s has mode %v (%v)", name, info.Mode(), err)
		}
	}
	write(t, filepath.Join(from, "lib", "deep", "note"), "another", 0o600)
	if other, err := Pack(from); err != nil || other.Name == packed.Name {
		t.Error("other content has the same name")
	}
}

func TestWhatIsToBeIgnoredIsLeftOut(t *testing.T) {
	from := t.TempDir()
	for _, name := range []string{"keep", "a.tmp", "deep/b.tmp", "data/one", "data/deep/two", "data/three.csv", "notes/keep.tmp"} {
		write(t, filepath.Join(from, name), name, 0o644)
	}
	write(t, filepath.Join(from, IgnoreFile), "# not these\n**/*.tmp\n!notes/keep.tmp\ndata/**\n!data/three.csv\n", 0o644)
	packed, err := Pack(from)
	if err != nil {
		t.Fatal(err)
	}
	var names []string
	if _, err := Read(bytes.NewReader(packed.Archive), func(h *tar.Header, _ io.Reader) error {
		names = append(names, h.Name)
		return nil
	}); err != nil {
		t.Fatal(err)
	}
	if got := strings.Join(names, " "); got != ".lanternignore data/three.csv keep notes/keep.tmp" {
		t.Errorf("the parcel holds %s", got)
	}
	write(t, filepath.Join(from, IgnoreFile), "[a-\n", 0o644)
	if _, err := Pack(from); err == nil || !strings.Contains(err.Error(), IgnoreFile) {
		t.Errorf("a pattern that is none: %v", err)
	}
}

func TestArchivesThatLeadOutAreRefused(t *testing.T) {
	for name, c := range map[string]struct {
		header tar.Header
		wanted string
	}{
		"a path upwards":     {tar.Header{Name: "../evil", Typeflag: tar.TypeReg}, "leads out of the folder"},
		"an absolute path":   {tar.Header{Name: "/etc/evil", Typeflag: tar.TypeReg}, "leads out of the folder"},
		"a link upwards":     {tar.Header{Name: "a/link", Typeflag: tar.TypeSymlink, Linkname: "../../etc"}, "leads out of the folder"},
		"an absolute link":   {tar.Header{Name: "link", Typeflag: tar.TypeSymlink, Linkname: "/etc"}, "leads out of the folder"},
		"a device":           {tar.Header{Name: "null", Typeflag: tar.TypeChar}, "neither a file nor a link"},
		"a hard link":        {tar.Header{Name: "hard", Typeflag: tar.TypeLink, Linkname: "x"}, "neither a file nor a link"},
		"a file too large":   {tar.Header{Name: "big", Typeflag: tar.TypeReg, Size: MaxBytes + 1}, "over 64 MB"},
		"a name of no chars": {tar.Header{Name: ".", Typeflag: tar.TypeReg}, "leads out of the folder"},
	} {
		var archive bytes.Buffer
		compressed := gzip.NewWriter(&archive)
		out := tar.NewWriter(compressed)
		if err := out.WriteHeader(&c.header); err != nil {
			t.Fatal(err)
		}
		out.Flush()
		compressed.Close()
		dir := filepath.Join(t.TempDir(), "parcel")
		err := Unpack(&archive, "x", dir)
		if err == nil || !strings.Contains(err.Error(), c.wanted) {
			t.Errorf("%s: %v", name, err)
		}
		if entries, _ := os.ReadDir(filepath.Dir(dir)); len(entries) != 0 {
			t.Errorf("%s left %v behind", name, entries)
		}
	}
	dir := t.TempDir()
	if err := os.Symlink("/etc/passwd", filepath.Join(dir, "link")); err != nil {
		t.Fatal(err)
	}
	if _, err := Pack(dir); err == nil || !strings.Contains(err.Error(), "make it relative and keep it inside") {
		t.Errorf("packing a link that leads out: %v", err)
	}
}

func TestAParcelUnderAnotherNameIsRefused(t *testing.T) {
	from := t.TempDir()
	write(t, filepath.Join(from, "note"), "x", 0o644)
	packed, err := Pack(from)
	if err != nil {
		t.Fatal(err)
	}
	dir := filepath.Join(t.TempDir(), "p")
	if err := Unpack(bytes.NewReader(packed.Archive), strings.Repeat("0", 64), dir); err == nil || !strings.Contains(err.Error(), "its content has the name") {
		t.Errorf("%v", err)
	}
	if err := Unpack(bytes.NewReader(packed.Archive[:len(packed.Archive)/2]), packed.Name, dir); err == nil {
		t.Error("half an archive was unpacked")
	}
}

func FuzzRead(f *testing.F) {
	dir := f.TempDir()
	if err := os.WriteFile(filepath.Join(dir, "note"), []byte("x"), 0o644); err != nil {
		f.Fatal(err)
	}
	packed, err := Pack(dir)
	if err != nil {
		f.Fatal(err)
	}
	f.Add(packed.Archive)
	f.Fuzz(func(t *testing.T, archive []byte) {
		found, err := Read(bytes.NewReader(archive), nil)
		if err == nil && (found.Bytes > MaxBytes || !IsName(found.Name)) {
			t.Fatalf("%+v", found)
		}
	})
}
