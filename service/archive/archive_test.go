package archive

import (
	"archive/tar"
	"bytes"
	"os"
	"path/filepath"
	"testing"

	"github.com/klauspost/compress/zstd"

	"wiselantern/service/store"
)

func packed(t *testing.T, entries ...tar.Header) *bytes.Buffer {
	t.Helper()
	var out bytes.Buffer
	z, err := zstd.NewWriter(&out)
	if err != nil {
		t.Fatal(err)
	}
	w := tar.NewWriter(z)
	for _, e := range entries {
		e.Size, e.Mode = int64(len(e.Linkname)), 0o600 // the content stands in Linkname
		text := e.Linkname
		e.Linkname = ""
		if err := w.WriteHeader(&e); err != nil {
			t.Fatal(err)
		}
		if _, err := w.Write([]byte(text)); err != nil {
			t.Fatal(err)
		}
	}
	if err := w.Close(); err != nil {
		t.Fatal(err)
	}
	if err := z.Close(); err != nil {
		t.Fatal(err)
	}
	return &out
}

// Nothing of a bad archive is kept, and none writes outside of its folder.
func TestABadArchiveLeavesNothing(t *testing.T) {
	file := func(name, text string) tar.Header {
		return tar.Header{Name: name, Typeflag: tar.TypeReg, Linkname: text}
	}
	for what, in := range map[string]*bytes.Buffer{
		"nothing":          {},
		"no end":           packed(t, file("lantern.db", "x")),
		"a way out":        packed(t, file("../outside", "x")),
		"a foreign file":   packed(t, file("token", "x")),
		"another format":   packed(t, file(contentsName, `{"format": 2}`)),
		"another content":  packed(t, file("lantern.db", "x"), file(contentsName, `{"format": 1, "files": {"lantern.db": "00"}}`)),
		"a missing file":   packed(t, file(contentsName, `{"format": 1, "files": {"lantern.db": "00"}}`)),
		"an untold file":   packed(t, file("lantern.db", "x"), file(contentsName, `{"format": 1}`)),
		"no databases":     packed(t, file(contentsName, `{"format": 1}`)),
		"the same twice":   packed(t, file("lantern.db", "x"), file("lantern.db", "x")),
		"contents of text": packed(t, file(contentsName, `no`)),
	} {
		parent := t.TempDir()
		if _, err := Restore(t.Context(), in, filepath.Join(parent, "data")); err == nil {
			t.Errorf("%s is restored", what)
		}
		if left, err := os.ReadDir(parent); err != nil || len(left) > 0 {
			t.Errorf("%s left %v, %v", what, left, err)
		}
	}
}

func TestWhatIsWrittenIsRestored(t *testing.T) {
	s, err := store.Open(t.Context(), filepath.Join(t.TempDir(), "data"))
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	s.Writer.Begin()
	s.Writer.AddWorkflow(store.Workflow{Name: "gauges", Version: 1, Covered: "{}", DecidedUntil: store.At(store.Moment{}.Time().AddDate(2000, 0, 0))})
	if err := s.Writer.Commit(); err != nil {
		t.Fatal(err)
	}
	var out bytes.Buffer
	if err := Write(t.Context(), s, &out); err != nil {
		t.Fatal(err)
	}
	dir := filepath.Join(t.TempDir(), "again")
	c, err := Restore(t.Context(), &out, dir)
	if err != nil || len(c.Files) != 2 || c.Bytes == 0 {
		t.Fatalf("%+v, %v", c, err)
	}
	again, err := store.Open(t.Context(), dir)
	if err != nil {
		t.Fatal(err)
	}
	defer again.Close()
	if all, err := again.Workflows(t.Context()); err != nil || len(all) != 1 || all[0].Name != "gauges" {
		t.Errorf("%+v, %v", all, err)
	}
}
