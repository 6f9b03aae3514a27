package cli

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"wiselantern/client"
)

func (a *app) rerunCommand() *cobra.Command {
	var request client.RerunRequest
	var params []string
	follow := false
	c := &cobra.Command{
		Use:   "rerun RUN",
		Short: "Make tasks of a run again",
		Long: `Make tasks of a run again, within the same run and on the version of the workflow
that it began with. The attempts that they had stay readable. Say which: those that
failed (with what was not reached or was stopped), a task and everything that comes
after it, or a task alone. With --follow-on, the runs of other workflows that rested
on these tasks are made again after them, each once those before it have succeeded.`,
		Example: `  lantern rerun gauge-hourly:412 --failed
  lantern rerun gauge-hourly:412 --from load --follow
  lantern rerun gauge-hourly:412 --only index -p threshold=2.1
  lantern rerun gauge-hourly:412 --from split --dry-run
  lantern rerun gauge-hourly:412 --from load --follow-on`,
		Args:              cobra.ExactArgs(1),
		ValidArgsFunction: a.completeRuns,
		RunE: func(c *cobra.Command, args []string) error {
			if !request.Failed && request.From == nil && request.Only == nil {
				return &usageError{fmt.Errorf("say which tasks: --failed, --from TASK or --only TASK")}
			}
			var err error
			if request.Texts, err = readParams(params); err != nil {
				return err
			}
			service, err := a.client()
			if err != nil {
				return err
			}
			run, err := service.Run(c.Context(), args[0]) // NAME alone is pinned to its number
			if err != nil {
				return err
			}
			again, err := service.Rerun(c.Context(), run.ID, request)
			if err != nil {
				return err
			}
			if follow && !request.DryRun {
				return a.watch(c.Context(), service, run.ID)
			}
			return a.print(again, func() error {
				verb := "are made again"
				switch {
				case request.DryRun:
					verb = "would be made again (--dry-run)"
				case len(again.Tasks) == 1:
					verb = "is made again"
				}
				fmt.Fprintf(a.out, "%s of %s %s: %s\n", plural(len(again.Tasks), "task"), run.ID, verb, strings.Join(again.Tasks, ", "))
				for _, f := range again.FollowOn {
					what := "all of it"
					if f.Tasks != nil {
						what = strings.Join(f.Tasks, ", ")
					}
					fmt.Fprintf(a.out, "  then %s: %s, after %s\n", f.Run, what, strings.Join(f.After, ", "))
				}
				if request.FollowOn && len(again.FollowOn) == 0 {
					fmt.Fprintln(a.out, "  nothing in other workflows rested on that")
				}
				return nil
			})
		},
	}
	c.Flags().BoolVar(&request.Failed, "failed", false, "those that failed, were unreached or were stopped")
	c.Flags().StringSliceVar(&request.From, "from", nil, "this task and everything that comes after it")
	c.Flags().StringSliceVar(&request.Only, "only", nil, "this task alone")
	c.Flags().StringArrayVarP(&params, "param", "p", nil, "another param than the run had, NAME=VALUE")
	c.Flags().BoolVar(&request.FollowOn, "follow-on", false, "then also what rested on that in other workflows, in order")
	c.Flags().BoolVar(&request.DryRun, "dry-run", false, "only tell which tasks would be made again")
	c.Flags().BoolVarP(&follow, "follow", "f", false, "watch the run to its end")
	c.MarkFlagsMutuallyExclusive("failed", "from", "only")
	return c
}

func (a *app) releaseCommand() *cobra.Command {
	as := "run"
	c := &cobra.Command{
		Use:   "release RUN TASK",
		Short: "Give your word about a held task",
		Long: `Give your word about a task that is held: have it run, or let the run go on as if it
had succeeded or been skipped.`,
		Example: `  lantern release gauge-hourly:412 load
  lantern release gauge-hourly:412 load --as succeeded`,
		Args:              cobra.ExactArgs(2),
		ValidArgsFunction: a.completeTasks,
		RunE: func(c *cobra.Command, args []string) error {
			service, err := a.client()
			if err != nil {
				return err
			}
			run, err := service.Release(c.Context(), args[0], args[1], as)
			if err != nil {
				return err
			}
			return a.print(run, func() error {
				state := run.State
				for _, t := range run.Tasks {
					if t.Name == args[1] {
						state = t.State
					}
				}
				_, err := fmt.Fprintf(a.out, "%s of %s is released and %s\n", args[1], run.ID, state)
				return err
			})
		},
	}
	c.Flags().StringVar(&as, "as", as, "run, succeeded or skipped")
	return c
}

// readParams reads NAME=VALUE several times.
func readParams(params []string) (map[string]string, error) {
	texts := map[string]string{}
	for _, p := range params {
		name, value, ok := strings.Cut(p, "=")
		if !ok {
			return nil, &usageError{fmt.Errorf("-p %s: write it as NAME=VALUE", p)}
		}
		texts[name] = value
	}
	return texts, nil
}
