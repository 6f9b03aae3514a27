package cli

import (
	"fmt"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"wiselantern/client"
	"wiselantern/core/definition"
	"wiselantern/parcel"
)

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
			project, problems := s.load("")
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
					fmt.Fprintf(a.out, "%s: %s, %s; no mistakes\n", w.Name, plural(len(w.Tasks), "task"), startsInWords(w))
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
	if len(w.Starts)+len(w.Outside) == 0 {
		return "started by people only"
	}
	words := make([]string, len(w.Starts))
	for i, s := range w.Starts {
		words[i] = s.String()
	}
	for _, o := range w.Outside {
		words = append(words, o.String())
	}
	return strings.Join(words, "; ")
}

func (a *app) applyCommand() *cobra.Command {
	dry, environment := false, ""
	c := &cobra.Command{
		Use:   "apply PATH…",
		Short: "Make the service match the files",
		Long: `Send a project, or single workflow files, to the service. Each workflow that is
new or has changed, in its definition or in the project's code, gets a new version,
which its next runs take; runs that are going stay on theirs. If anything is
wrong, nothing is applied.

The project's folder is sent along as it is now, without version control and
node_modules; tasks run in a copy of it. A file that belongs to no project comes
alone: its tasks run in an empty folder.

With --env the params, the variables and the capacities are those that lantern.yaml
has for that environment, and the service is the one that it names, unless --server
or LANTERN_SERVER name another. With --dry-run each key that would change is told.`,
		Example: `  lantern apply .
  lantern apply . --dry-run
  lantern apply . --env prod
  lantern apply workflows/gauge-hourly.yaml`,
		Args: cobra.MinimumNArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			s, err := a.collect(args)
			if err != nil {
				return err
			}
			project, problems := s.load(environment)
			if problems != nil {
				return problems
			}
			if project.Server != "" && os.Getenv("LANTERN_SERVER") == "" && !c.Flags().Changed("server") {
				a.server = project.Server
			}
			service, err := a.client()
			if err != nil {
				return err
			}
			request := client.ApplyRequest{Files: s.files, Environment: environment, DryRun: dry}
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
					a.differences(w)
				}
				for _, c := range applied.Capacities {
					fmt.Fprintf(a.out, "~ capacity %s: %d → %d\n", c.Name, c.Before, c.After)
				}
				if dry {
					fmt.Fprintln(a.out, "Nothing was applied (--dry-run).")
				}
				return nil
			})
		},
	}
	c.Flags().BoolVar(&dry, "dry-run", false, "only tell what would change")
	c.Flags().StringVar(&environment, "env", "", "an environment of the project, as in dev or prod")
	return c
}

// differences prints what a workflow says other than before, a key at a time.
func (a *app) differences(w client.AppliedChange) {
	p := painter(a.out)
	side := func(text string) string {
		if text == "" {
			return p.dim("nothing")
		}
		return shortened(strings.ReplaceAll(strings.TrimSpace(text), "\n", "↵"), 60)
	}
	for _, d := range w.Differences {
		if d.Key == "" {
			fmt.Fprintf(a.out, "    %s %s\n", d.Part, orDash(d.Before+d.After))
			continue
		}
		fmt.Fprintf(a.out, "    %s %s: %s → %s\n", d.Part, p.strong(d.Key), side(d.Before), side(d.After))
	}
	if w.Code {
		fmt.Fprintln(a.out, "    the folder of code is another one")
	}
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
