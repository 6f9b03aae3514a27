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
	Path  string `json:"path"`
	Text  string `json:"text"`
	Table bool   `json:"table,omitempty"` // it holds no workflows, but the tasks or the calendar that one of them takes from it
}

// Project is a folder of workflows.
type Project struct {
	Name      string
	About     string
	Workflows []*Workflow
	Files     map[string]string // the path of the file that each workflow stands in, by its name

	Environment  string         // the one that it was read for, "" for none
	Environments []string       // that there are
	Server       string         // the address of the service of the environment, "" if it says none
	Capacity     map[string]int // the units that the environment sets
	Unused       Problems       // what environments set and none of these workflows has: mistakes, if these are all
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
func Load(files []File) (*Project, Problems) { return LoadFor(files, "") }

// LoadFor reads a project as it is in one of its environments, or with "" in none.
func LoadFor(files []File, environment string) (*Project, Problems) {
	project := &Project{Files: map[string]string{}, Environment: environment}
	inherited := standard
	var problems Problems
	var environments []environmentAt
	projects := newReader(ProjectFile, "")
	for _, f := range files {
		if f.Path == ProjectFile {
			projects = newReader(f.Path, f.Text)
			docs := projects.documents(f.Text)
			if len(docs) > 1 {
				projects.problem(docs[1], "keep one", "%s has more than one document", ProjectFile)
			}
			if len(docs) > 0 {
				inherited, environments = projects.project(docs[0], project, inherited)
			}
		}
	}
	projects.chooseEnvironment(project, environments, &inherited)
	var readers []*reader
	lower := map[string]string{}
	tables := map[string]string{}
	for _, f := range files {
		if f.Table {
			tables[f.Path] = f.Text
		}
	}
	for _, f := range files {
		if f.Path == ProjectFile || f.Table {
			continue
		}
		r := newReader(f.Path, f.Text)
		r.tables = tables
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
	projects.environmentParams(project, environments)
	problems = append(problems, projects.problems...)
	for _, r := range readers {
		r.checkInners(project.Workflows)
		r.checkLinks(project.Workflows)
		problems = append(problems, r.problems...)
	}
	if way, waits := Circle(project.Workflows); way != nil && problems == nil {
		message, fix := circleMessage(way, waits)
		problems = append(problems, Problem{File: project.Files[way[0]], Message: message, Fix: fix})
	}
	return project, problems.sorted()
}

func (r *reader) project(doc *node, project *Project, inherited Settings) (Settings, []environmentAt) {
	var name, setup *node
	var environments []environmentAt
	r.keys(doc, "the project", map[string]func(*node){
		"project":      func(n *node) { name = n },
		"about":        func(n *node) { project.About = r.text(n, "about") },
		"defaults":     func(n *node) { inherited = r.settings(n, inherited) },
		"setup":        func(n *node) { setup = n },
		"environments": func(n *node) { environments = r.environments(n, project) },
	})
	if setup != nil {
		inherited.Setup = r.setup(setup)
	}
	if name == nil {
		r.problem(doc, `begin with "project: NAME"`, "the project has no name")
	} else {
		project.Name = r.name(name, "project", namePattern.MatchString)
	}
	return inherited, environments
}
