package cli

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"

	"wiselantern/core/definition"
)

// source is what PATH… names: the files, and the project's folder if there is one.
type source struct {
	root   string // "" without a project
	folder string // that paths in the files begin in
	files  []definition.File
	whole  bool // these are all the workflows of the project
}

// load reads what was collected, for an environment or with "" for none.
func (s source) load(environment string) (*definition.Project, definition.Problems) {
	project, problems := definition.LoadFor(s.files, environment)
	if s.whole {
		problems = append(problems, project.Unused...)
	}
	return project, problems
}

// collect reads what the paths name. A folder is a project: its lantern.yaml and
// workflows/. A file is that file, with the lantern.yaml of the folder above it,
// if there is one. A dash is standard input.
func (a *app) collect(paths []string) (source, error) {
	s, err := a.collectWorkflows(paths)
	if err != nil {
		return s, err
	}
	for _, path := range definition.Tables(s.files) {
		text, err := os.ReadFile(filepath.Join(s.folder, filepath.FromSlash(path)))
		if errors.Is(err, fs.ErrNotExist) {
			continue // that is a mistake in the workflow, and told as one
		}
		if err != nil {
			return s, err
		}
		s.files = append(s.files, definition.File{Path: path, Text: string(text), Table: true})
	}
	return s, nil
}

func (a *app) collectWorkflows(paths []string) (source, error) {
	var s source
	add := func(root, name string) error {
		inside, err := filepath.Rel(root, name)
		if err != nil {
			return err
		}
		text, err := os.ReadFile(name)
		if err != nil {
			return err
		}
		s.folder = root
		f := definition.File{Path: filepath.ToSlash(inside), Text: string(text)}
		if !slices.ContainsFunc(s.files, func(other definition.File) bool { return other.Path == f.Path }) {
			s.files = append(s.files, f)
		}
		return nil
	}
	setRoot := func(root string) error {
		if s.root != "" && s.root != root {
			return &usageError{fmt.Errorf("%s and %s are two projects; apply one after the other", s.root, root)}
		}
		s.root = root
		if _, err := os.Stat(filepath.Join(root, definition.ProjectFile)); err == nil {
			return add(root, filepath.Join(root, definition.ProjectFile))
		}
		return nil
	}
	for _, path := range paths {
		if path == "-" {
			text, err := io.ReadAll(a.in)
			if err != nil {
				return s, err
			}
			s.files = append(s.files, definition.File{Path: "standard input", Text: string(text)})
			continue
		}
		full, err := filepath.Abs(path)
		if err != nil {
			return s, err
		}
		info, err := os.Stat(full)
		if errors.Is(err, fs.ErrNotExist) {
			return s, &usageError{fmt.Errorf("there is no file or folder %s", path)}
		}
		if err != nil {
			return s, err
		}
		if !info.IsDir() {
			if root := projectAbove(full); root != "" {
				if err := setRoot(root); err != nil {
					return s, err
				}
				err = add(root, full)
			} else {
				err = add(filepath.Dir(full), full)
			}
			if err != nil {
				return s, err
			}
			continue
		}
		if err := setRoot(full); err != nil {
			return s, err
		}
		s.whole = true
		entries, err := os.ReadDir(filepath.Join(full, "workflows"))
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return s, err
		}
		found := false
		for _, entry := range entries {
			if !entry.IsDir() && definition.IsWorkflowFile("workflows/"+entry.Name()) {
				found = true
				if err := add(full, filepath.Join(full, "workflows", entry.Name())); err != nil {
					return s, err
				}
			}
		}
		if !found {
			return s, &usageError{fmt.Errorf("the folder %s has no workflows; write one to %s", path, filepath.Join(path, "workflows", "NAME.yaml"))}
		}
	}
	return s, nil
}

// projectAbove is the nearest folder above a file that holds a lantern.yaml.
func projectAbove(file string) string {
	for dir := filepath.Dir(file); ; dir = filepath.Dir(dir) {
		if _, err := os.Stat(filepath.Join(dir, definition.ProjectFile)); err == nil {
			return dir
		}
		if dir == filepath.Dir(dir) {
			return ""
		}
	}
}
