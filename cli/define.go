package cli

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"wiselantern/client"
	"wiselantern/core/definition"
	"wiselantern/parcel"
)

// source is what PATH… names: the files, and the project's folder if there is one.
type source struct {
	root  string // "" without a project
	files []definition.File
}

// collect reads what the paths name. A folder is a project: its lantern.yaml and
// workflows/. A file is that file, with the lantern.yaml of the folder above it,
// if there is one. A dash is standard input.
func (a *app) collect(paths []string) (source, error) {
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

func (a *app) checkCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "check PATH…",
		Short: "Find every mistake in workflows, offline",
		Long: `Read projects (folders with workflows/) or workflow files, and tell every mistake
in them, each with its place and what to write instead. No service is needed.`,
		Example: `  lantern check .
  lantern check workflows/gauge-hourly.yaml
  generate-workflow | lantern check -`,
		Args: cobra.MinimumNArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			s, err := a.collect(args)
			if err != nil {
				return err
			}
			project, problems := definition.Load(s.files)
			type report struct {
				Workflows []string             `json:"workflows"`
				Problems  []definition.Problem `json:"problems"`
			}
			r := report{Workflows: []string{}, Problems: append([]definition.Problem{}, problems...)}
			for _, w := range project.Workflows {
				r.Workflows = append(r.Workflows, w.Name)
			}
			err = a.print(r, func() error {
				if problems != nil {
					fmt.Fprintf(a.out, "%s\n\n%s\n", problems.Error(), plural(len(problems), "mistake"))
					return nil
				}
				for _, w := range project.Workflows {
					fmt.Fprintf(a.out, "%s: %d tasks, %s; no mistakes\n", w.Name, len(w.Tasks), startsInWords(w))
				}
				return nil
			})
			if err == nil && problems != nil {
				return &cameOutBadly{exitWrong}
			}
			return err
		},
	}
}

func startsInWords(w *definition.Workflow) string {
	if len(w.Starts) == 0 {
		return "started by people only"
	}
	words := make([]string, len(w.Starts))
	for i, s := range w.Starts {
		words[i] = s.String()
	}
	return strings.Join(words, "; ")
}

func (a *app) applyCommand() *cobra.Command {
	dry := false
	c := &cobra.Command{
		Use:   "apply PATH…",
		Short: "Make the service match the files",
		Long: `Send a project, or single workflow files, to the service. Each workflow that is
new or has changed, in its definition or in the project's code, gets a new version,
which its next runs take; runs that are going stay on theirs. If anything is
wrong, nothing is applied.

The project's folder is sent along as it is now, without version control and
node_modules; tasks run in a copy of it. A file that belongs to no project comes
alone: its tasks run in an empty folder.`,
		Example: `  lantern apply .
  lantern apply . --dry-run
  lantern apply workflows/gauge-hourly.yaml`,
		Args: cobra.MinimumNArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			s, err := a.collect(args)
			if err != nil {
				return err
			}
			if _, problems := definition.Load(s.files); problems != nil {
				return problems
			}
			service, err := a.client()
			if err != nil {
				return err
			}
			request := client.ApplyRequest{Files: s.files, DryRun: dry}
			if s.root != "" {
				packed, err := parcel.Pack(s.root)
				if err != nil {
					return err
				}
				request.Parcel = packed.Name
				if !dry {
					if _, err := service.SendParcel(c.Context(), packed.Archive); err != nil {
						return err
					}
				}
			}
			applied, err := service.Apply(c.Context(), request)
			if err != nil {
				return err
			}
			return a.print(applied, func() error {
				for _, w := range applied.Workflows {
					fmt.Fprintln(a.out, changeInWords(w, dry))
				}
				if dry {
					fmt.Fprintln(a.out, "Nothing was applied (--dry-run).")
				}
				return nil
			})
		},
	}
	c.Flags().BoolVar(&dry, "dry-run", false, "only tell what would change")
	return c
}

func changeInWords(w client.AppliedChange, dry bool) string {
	verb := "is"
	if dry {
		verb = "would be"
	}
	switch w.Change {
	case "new":
		return fmt.Sprintf("+ %s %s new, version %d", w.Workflow, verb, w.Version)
	case "changed":
		return fmt.Sprintf("~ %s %s changed, now version %d", w.Workflow, verb, w.Version)
	}
	return fmt.Sprintf("= %s stays as it is, version %d", w.Workflow, w.Version)
}
