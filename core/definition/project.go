package definition

import (
	"fmt"
	"path"
	"slices"
	"strings"
)

// ProjectFile is the name of the file that makes a folder a project.
const ProjectFile = "lantern.yaml"

// File is one file of a project: its path relative to the project's folder,
// with forward slashes, and its text.
type File struct {
	Path string `json:"path"`
	Text string `json:"text"`
}

// Project is a folder of workflows.
type Project struct {
	Name      string
	About     string
	Workflows []*Workflow
	Files     map[string]string // the path of the file that each workflow stands in, by its name
}

// IsWorkflowFile tells whether a path of a project holds workflows: a YAML or
// JSON file directly in the folder `workflows`.
func IsWorkflowFile(name string) bool {
	switch path.Ext(name) {
	case ".yaml", ".yml", ".json":
		return path.Dir(name) == "workflows"
	}
	return false
}

// Load reads a project, or single workflow files without one, and returns every
// mistake of every file.
func Load(files []File) (*Project, Problems) {
	project := &Project{Files: map[string]string{}}
	inherited := standard
	var problems Problems
	for _, f := range files {
		if f.Path == ProjectFile {
			r := newReader(f.Path, f.Text)
			docs := r.documents(f.Text)
			if len(docs) > 1 {
				r.problem(docs[1], "keep one", "%s has more than one document", ProjectFile)
			}
			if len(docs) > 0 {
				inherited = r.project(docs[0], project, inherited)
			}
			problems = append(problems, r.problems...)
		}
	}
	var readers []*reader
	lower := map[string]string{}
	for _, f := range files {
		if f.Path == ProjectFile {
			continue
		}
		r := newReader(f.Path, f.Text)
		workflows := r.workflows(f.Text, inherited)
		readers = append(readers, r)
		for _, w := range workflows {
			if w.Name == "" {
				continue
			}
			if other, ok := lower[strings.ToLower(w.Name)]; ok {
				problems = append(problems, Problem{File: f.Path, Message: fmt.Sprintf("the workflow %q stands in %s too", w.Name, other), Fix: "give one of them another name"})
				continue
			}
			lower[strings.ToLower(w.Name)] = f.Path
			project.Files[w.Name] = f.Path
			project.Workflows = append(project.Workflows, w)
		}
	}
	slices.SortFunc(project.Workflows, func(a, b *Workflow) int { return strings.Compare(a.Name, b.Name) })
	for _, r := range readers {
		r.checkInners(project.Workflows)
		problems = append(problems, r.problems...)
	}
	return project, problems.sorted()
}

func (r *reader) project(doc *node, project *Project, inherited Settings) Settings {
	var name *node
	r.keys(doc, "the project", map[string]func(*node){
		"project":  func(n *node) { name = n },
		"about":    func(n *node) { project.About = r.text(n, "about") },
		"defaults": func(n *node) { inherited = r.settings(n, inherited) },
	})
	if name == nil {
		r.problem(doc, `begin with "project: NAME"`, "the project has no name")
	} else {
		project.Name = r.name(name, "project", namePattern.MatchString)
	}
	return inherited
}
