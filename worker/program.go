package worker

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"
)

// program is what is to be executed.
type program struct {
	path  string
	words []string // its name as it was given, and its arguments
	env   []string // each name once
	dir   string   // its work folder
}

// start starts it in a process group of its own, with the standard streams given as
// descriptors.
func (p program) start(stdin, stdout, stderr uintptr) (process, error) {
	handle := -1
	pid, err := syscall.ForkExec(p.path, p.words, &syscall.ProcAttr{Dir: p.dir, Env: p.env, Files: []uintptr{stdin, stdout, stderr}, Sys: &syscall.SysProcAttr{Setpgid: true, PidFD: &handle}})
	return process{pid, handle}, err
}

// env is what the task is given: the worker's own environment without the
// service's variables, then the task's, then what the service tells it.
func (a *attempt) env() []string {
	o := a.order
	told := []string{"TRACEPARENT=" + o.Trace}
	for name, value := range o.Params {
		told = append(told, "LANTERN_PARAM_"+strings.ToUpper(name)+"="+value)
	}
	for name, value := range o.Marks {
		told = append(told, "LANTERN_WATERMARK_"+strings.ToUpper(name)+"="+value)
	}
	if !o.End.IsZero() {
		told = append(told, "LANTERN_WINDOW_START="+o.Start.Format(time.RFC3339), "LANTERN_WINDOW_END="+o.End.Format(time.RFC3339))
	}
	return a.environment(a.folder, o.Env, told)
}

// environment is that of a program of the attempt which is executed in a folder: the
// worker's own, the folder, what was set for the program, and what it is told, each name
// once, the last that is said.
func (a *attempt) environment(dir string, set map[string]string, told []string) []string {
	told = append(told, "LANTERN_RUN="+a.order.RunName, "LANTERN_TASK="+a.order.TaskName, "LANTERN_ATTEMPT="+strconv.Itoa(a.order.Attempt), "LANTERN_RESULT="+a.resultFile())
	if a.ready != "" {
		told = append(told, "LANTERN_SETUP="+a.ready)
	}
	over := []string{"PWD=" + dir}
	for name, value := range set {
		over = append(over, name+"="+value)
	}
	env := make([]string, 0, len(told)+len(over)+len(inherited()))
	env = addNew(addNew(env, told), over)
	first := len(env)
	for _, one := range inherited() {
		if !has(env[:first], one.name) {
			env = append(env, one.setting)
		}
	}
	return env
}

// addNew adds the settings of a layer whose names are not there yet; of a name that it has
// twice, the last. They are few.
func addNew(env, layer []string) []string {
	for _, setting := range slices.Backward(layer) {
		if name, _, _ := strings.Cut(setting, "="); !has(env, name) {
			env = append(env, setting)
		}
	}
	return env
}

// has tells whether a name is set.
func has(env []string, name string) bool {
	for _, setting := range env {
		if len(setting) > len(name) && setting[len(name)] == '=' && setting[:len(name)] == name {
			return true
		}
	}
	return false
}

// variable is one of an environment, with its name apart.
type variable struct{ name, setting string }

// inherited is what of the worker's environment tasks get: all but what is of the worker
// alone, each name once.
var inherited = sync.OnceValue(func() (all []variable) {
	for _, setting := range addNew(nil, os.Environ()) {
		name, _, _ := strings.Cut(setting, "=")
		if !strings.HasPrefix(name, "LANTERN_") && name != "OLDPWD" {
			all = append(all, variable{name, setting})
		}
	}
	return all
})

// The exit codes of the POSIX shell for a program that cannot be run (IEEE Std
// 1003.1, Shell Command Language, 2.8.2).
const (
	codeNotExecutable = 126
	codeNotFound      = 127
	codeSignalled     = 128 // and the number of the signal that ended it
)

// findProgram looks a program up as a shell would: with a slash in the work folder,
// where it is not looked at, without one along the PATH of env.
func findProgram(name, dir string, env []string) (file string, code int, err error) {
	if strings.Contains(name, "/") {
		if filepath.IsAbs(name) {
			return name, 0, nil
		}
		return filepath.Join(dir, name), 0, nil
	}
	path := ""
	for _, v := range env {
		if p, ok := strings.CutPrefix(v, "PATH="); ok {
			path = p
		}
	}
	for _, folder := range filepath.SplitList(path) {
		file := filepath.Join(folder, name)
		if info, err := os.Stat(file); err == nil && info.Mode().IsRegular() && info.Mode()&0o111 != 0 {
			return file, 0, nil
		}
	}
	hint := "install it on the worker's machine, or write a path"
	if _, err := os.Stat(filepath.Join(dir, name)); err == nil {
		hint = fmt.Sprintf("the project has a file of that name: write ./%s", name)
	}
	return "", codeNotFound, fmt.Errorf("the program %s is not in PATH (%s); %s", name, path, hint)
}

// whyNot tells why a program could not be started, from the error with which that failed
// and the file.
func (p program) whyNot(err error) (code int, reason string) {
	name := p.words[0]
	info, looked := os.Stat(p.path)
	switch {
	case errors.Is(looked, fs.ErrNotExist):
		return codeNotFound, fmt.Sprintf("the program %s does not exist; a path is relative to the project's folder, as it was when it was applied", name)
	case looked != nil:
		return codeNotExecutable, fmt.Sprintf("the program %s cannot be looked at: %v", name, looked)
	case info.IsDir():
		return codeNotExecutable, fmt.Sprintf("%s is a folder, not a program", name)
	case info.Mode()&0o111 == 0:
		return codeNotExecutable, fmt.Sprintf("the program %s has no run bit; give it one (chmod +x %s) and apply the project again", name, name)
	case errors.Is(err, fs.ErrNotExist): // the file is there: what it names in its first line is not
		return codeNotFound, fmt.Sprintf("the program %s cannot be started: the interpreter in its first line does not exist on the worker's machine", name)
	}
	return codeNotExecutable, fmt.Sprintf("the program %s cannot be started: %v", name, err)
}
