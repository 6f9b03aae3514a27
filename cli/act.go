package cli

import (
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"wiselantern/client"
)

func sortedNames[V any](m map[string]V) []string { return slices.Sorted(maps.Keys(m)) }

// startFlags say what is asked of a run.
type startFlags struct {
	window                string
	params, only, results []string
}

// add adds the flags to a command; only is the name of the flag that names tasks.
func (f *startFlags) add(c *cobra.Command, only string) {
	c.Flags().StringArrayVarP(&f.params, "param", "p", nil, "a param, NAME=VALUE; may be given several times")
	c.Flags().StringVar(&f.window, "window", "", "the window, START/END in RFC 3339")
	c.Flags().StringSliceVar(&f.only, only, nil, "this task alone; may be given several times. What comes before it is taken as done")
	c.Flags().StringArrayVar(&f.results, "result", nil, "the result of a task that is left out, TASK=JSON; may be given several times")
}

func (f *startFlags) request() (request client.StartRequest, err error) {
	request.Only = f.only
	if request.Texts, err = readParams(f.params); err != nil {
		return request, err
	}
	if f.window != "" {
		if request.Window, err = parseWindow(f.window); err != nil {
			return request, &usageError{err}
		}
	}
	for _, text := range f.results {
		task, value, ok := strings.Cut(text, "=")
		var result any
		if err := json.Unmarshal([]byte(value), &result); err != nil || !ok {
			return request, &usageError{fmt.Errorf("--result %s: write it as TASK=JSON, as in 'index={\"index\": 2.7}'", text)}
		}
		object, isObject := result.(map[string]any)
		if list, isList := result.([]any); isList { // of a task made for each
			object, isObject = map[string]any{"results": list}, true
		}
		if !isObject {
			return request, &usageError{fmt.Errorf("--result %s: a result is a JSON object, or of a task made for each item a list of them", text)}
		}
		if request.Results == nil {
			request.Results = map[string]map[string]any{}
		}
		request.Results[task] = object
	}
	return request, nil
}

func (a *app) startCommand() *cobra.Command {
	var flags startFlags
	follow := false
	c := &cobra.Command{
		Use:   "start WORKFLOW",
		Short: "Start a run now",
		Long: `Start a run of a workflow now, with params other than the defaults if wanted, and
for a window if wanted. While another run of it is going, the new one waits its
turn, unless the workflow says if_running: alongside.`,
		Example: `  lantern start gauge-hourly
  lantern start gauge-hourly -p basin=lower -p stations=G01,G02 --follow
  lantern start gauge-hourly --window 2026-03-28T06:00:00Z/2026-03-28T07:00:00Z
  lantern start gauge-hourly --only bulletin --result 'index={"index": 2.7}' --result 'check/stuck={"stuck": 0}'`,
		Args:              cobra.ExactArgs(1),
		ValidArgsFunction: a.completeWorkflows,
		RunE: func(c *cobra.Command, args []string) error {
			service, err := a.client()
			if err != nil {
				return err
			}
			request, err := flags.request()
			if err != nil {
				return err
			}
			run, err := service.Start(c.Context(), args[0], request)
			if err != nil {
				return err
			}
			if follow {
				return a.watch(c.Context(), service, run.ID)
			}
			return a.print(run, func() error {
				_, err := fmt.Fprintf(a.out, "%s is %s; look at it with: lantern watch %s\n", run.ID, run.State, run.ID)
				return err
			})
		},
	}
	flags.add(c, "only")
	c.Flags().BoolVarP(&follow, "follow", "f", false, "watch it to its end; the exit code is 1 if it ends badly")
	return c
}

// parseWindow reads a time interval, START/END (ISO 8601-1, 5.5.2.1).
func parseWindow(text string) (*client.Window, error) {
	first, second, ok := strings.Cut(text, "/")
	start, err1 := time.Parse(time.RFC3339, first)
	end, err2 := time.Parse(time.RFC3339, second)
	if !ok || err1 != nil || err2 != nil {
		return nil, fmt.Errorf("--window %s: write START/END, as in 2026-03-28T06:00:00Z/2026-03-28T07:00:00Z", text)
	}
	return &client.Window{Start: start, End: end}, nil
}

func (a *app) stopCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "stop RUN [TASK]",
		Short: "Stop a run, or one task of it",
		Long: `Stop a run, or one task of it. What has not begun is stopped at once; what is
running gets SIGTERM, and ten seconds later SIGKILL. What has ended stays as it is.`,
		Example: `  lantern stop gauge-hourly:412
  lantern stop gauge-hourly:412 load`,
		Args:              cobra.RangeArgs(1, 2),
		ValidArgsFunction: a.completeTasks,
		RunE: func(c *cobra.Command, args []string) error {
			service, err := a.client()
			if err != nil {
				return err
			}
			task := ""
			if len(args) == 2 {
				task = args[1]
			}
			run, err := service.Stop(c.Context(), args[0], task)
			if err != nil {
				return err
			}
			return a.print(run, func() error {
				running := 0
				for _, t := range run.Tasks {
					if t.Stopping && t.Items == nil { // else its items count
						running++
					}
				}
				text := fmt.Sprintf("%s is %s", run.ID, run.State)
				if task != "" {
					text = fmt.Sprintf("%s of %s is stopped", task, run.ID)
				}
				if running > 0 {
					text = fmt.Sprintf("%s: %s asked to end, with ten seconds for it", run.ID, plural(running, "running task"))
				}
				_, err := fmt.Fprintln(a.out, text)
				return err
			})
		},
	}
}

func (a *app) pauseCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "pause WORKFLOW",
		Short: "Keep a workflow from beginning runs by itself",
		Long: `Keep a workflow from beginning runs by itself. Runs that are going go on; queued
ones wait; what comes due is remembered and made when it is resumed. A run that a
person starts begins all the same.`,
		Example:           `  lantern pause gauge-hourly`,
		Args:              cobra.ExactArgs(1),
		ValidArgsFunction: a.completeWorkflows,
		RunE: func(c *cobra.Command, args []string) error {
			service, err := a.client()
			if err != nil {
				return err
			}
			w, err := service.Pause(c.Context(), args[0])
			if err != nil {
				return err
			}
			return a.print(w, func() error {
				if w.Paused == nil { // somebody has resumed it meanwhile
					_, err := fmt.Fprintf(a.out, "%s was paused, and somebody has resumed it since\n", w.Name)
					return err
				}
				_, err := fmt.Fprintf(a.out, "%s is paused since %s, by %s; go on with: lantern resume %s\n", w.Name, when(&w.Paused.Since), w.Paused.By, w.Name)
				return err
			})
		},
	}
}

func (a *app) resumeCommand() *cobra.Command {
	return &cobra.Command{
		Use:               "resume WORKFLOW",
		Short:             "Let a paused workflow go on",
		Long:              "Let a paused workflow go on. A run is made for each window that came due while it was paused.",
		Example:           `  lantern resume gauge-hourly`,
		Args:              cobra.ExactArgs(1),
		ValidArgsFunction: a.completeWorkflows,
		RunE: func(c *cobra.Command, args []string) error {
			service, err := a.client()
			if err != nil {
				return err
			}
			resumed, err := service.Resume(c.Context(), args[0])
			if err != nil {
				return err
			}
			return a.print(resumed, func() error {
				text := args[0] + " goes on; nothing came due meanwhile"
				if resumed.Missed == 1 {
					text = args[0] + " goes on; one window came due meanwhile and gets its run now"
				} else if resumed.Missed > 1 {
					text = fmt.Sprintf("%s goes on; %d windows came due meanwhile and get their runs now", args[0], resumed.Missed)
				}
				_, err := fmt.Fprintln(a.out, text)
				return err
			})
		},
	}
}
