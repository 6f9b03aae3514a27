package definition

import (
	"fmt"
	"maps"
	"net/url"
	"slices"
	"strings"
	"time"
)

// Setup is what makes a project's folder ready before its first task runs on a
// worker: exactly one of Exec and Shell is set.
type Setup struct {
	Exec    []string          `json:"exec,omitempty"`
	Shell   string            `json:"shell,omitempty"`
	Env     map[string]string `json:"env,omitempty"`
	Timeout Length            `json:"timeout"`
}

// standardSetupTimeout is how long a setup may take that does not say.
const standardSetupTimeout = Length(30 * time.Minute)

func (r *reader) setup(n *node) *Setup {
	s := &Setup{Timeout: standardSetupTimeout}
	var kinds []*node
	ok := r.keys(n, "setup", map[string]func(*node){
		"exec": func(n *node) {
			kinds, s.Exec = append(kinds, n), r.command(n, "", "setup")
		},
		"shell":   func(n *node) { kinds, s.Shell = append(kinds, n), r.script(n, "setup") },
		"env":     func(n *node) { s.Env = r.env(n, nil, "") },
		"timeout": func(n *node) { s.Timeout = r.length(n, "timeout of setup") },
	})
	for _, x := range r.expected { // there is no run yet that they could speak of
		r.problem(x.at, "take it out; a setup is done once, for all runs", "setup holds ${")
	}
	r.expected = nil
	switch {
	case ok && len(kinds) == 0:
		r.problem(n, "give it one of: exec, shell", "setup does nothing")
	case len(kinds) > 1:
		r.problem(kinds[1], "keep one", "setup has both exec and shell")
	}
	return s
}

// environmentAt is an environment as it stands in the file.
type environmentAt struct {
	name     string
	server   string
	env      map[string]string
	capacity map[string]int
	params   []pair
}

func (r *reader) environments(n *node, project *Project) (found []environmentAt) {
	r.each(n, "environments", func(key, value *node) {
		e := environmentAt{name: r.name(key, "environment", IsName)}
		what := fmt.Sprintf("environment %q", e.name)
		r.keys(value, what, map[string]func(*node){
			"server": func(n *node) { e.server = r.address(n, "server of "+what) },
			"env":    func(n *node) { e.env = r.env(n, nil, "") },
			"capacity": func(n *node) {
				e.capacity = map[string]int{}
				r.each(n, "capacity of "+what, func(key, value *node) {
					e.capacity[r.name(key, "capacity", IsName)] = int(r.whole64(value, "capacity "+key.text, 0, 1_000_000))
				})
			},
			"params": func(n *node) {
				r.each(n, "params of "+what, func(key, value *node) { e.params = append(e.params, pair{key, value}) })
			},
		})
		found = append(found, e)
		project.Environments = append(project.Environments, e.name)
	})
	return found
}

func (r *reader) address(n *node, what string) string {
	text := r.text(n, what)
	if u, err := url.Parse(text); n.kind == scalar && (err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https") {
		r.problem(n, "write it as https://lantern.example:7640", "%s is %q, which is no address", what, text)
	}
	return text
}

// chooseEnvironment has what tasks inherit be that of the chosen environment.
func (r *reader) chooseEnvironment(project *Project, environments []environmentAt, inherited *Settings) {
	if project.Environment == "" {
		return
	}
	for _, e := range environments {
		if e.name != project.Environment {
			continue
		}
		project.Server, project.Capacity = e.server, e.capacity
		env := maps.Clone(inherited.Env)
		if env == nil {
			env = map[string]string{}
		}
		maps.Copy(env, e.env)
		inherited.Env = env
		return
	}
	fix := "add environments to " + ProjectFile
	if len(project.Environments) > 0 {
		fix = "the environments are: " + listed(project.Environments)
	}
	if near := Nearest(project.Environment, project.Environments); near != "" {
		fix = fmt.Sprintf("did you mean %q?", near)
	}
	r.whole(fmt.Sprintf("there is no environment %q", project.Environment), fix)
}

// environmentParams checks the params that environments set, and has those of the
// chosen one be the defaults of the workflows that have them.
func (r *reader) environmentParams(project *Project, environments []environmentAt) {
	for _, e := range environments {
		for _, p := range e.params {
			name, known := p.key.text, false
			for _, w := range project.Workflows {
				at := slices.IndexFunc(w.Params, func(param Param) bool { return param.Name == name })
				if at < 0 {
					continue
				}
				known = true
				param := &w.Params[at]
				if param.Secret {
					r.problem(p.value, "take it out, and give the value when a run is started", "the param %q of workflow %q is secret, and its value stands in the file for all to read", name, w.Name)
					continue
				}
				value, err := param.fromNode(p.value)
				if err != nil {
					r.problem(p.value, "", "environment %q, param %q of workflow %q: %v", e.name, name, w.Name, err)
				} else if e.name == project.Environment {
					param.Default, param.Required = value, false
				}
			}
			if !known {
				var names []string
				for _, w := range project.Workflows {
					for _, param := range w.Params {
						names = append(names, param.Name)
					}
				}
				slices.Sort(names)
				fix := "the params are: " + listed(slices.Compact(names))
				if near := Nearest(name, names); near != "" {
					fix = fmt.Sprintf("did you mean %q?", near)
				} else if names == nil {
					fix = "take it out"
				}
				unused := &reader{document: r.document}
				unused.problem(p.key, fix, "environment %q sets the param %q, which no workflow has", e.name, name)
				project.Unused = append(project.Unused, unused.problems...)
			}
		}
	}
}

// fromNode is a value of the param as it stands in a file.
func (p Param) fromNode(n *node) (any, error) {
	value := n.any()
	if n.kind == scalar && !slices.Contains([]string{"list", "object", "number", "whole", "bool"}, p.Type) {
		value = n.text
	}
	return p.Check(value)
}

// String is the setup in a few words.
func (s Setup) String() string {
	if s.Exec != nil {
		return strings.Join(s.Exec, " ")
	}
	return strings.TrimSpace(s.Shell)
}
