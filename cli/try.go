package cli

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"os"

	"github.com/spf13/cobra"

	"wiselantern/client"
	"wiselantern/core/definition"
	"wiselantern/parcel"
	"wiselantern/service"
	"wiselantern/service/access"
)

type tryOptions struct {
	startFlags
	workflow, environment string
	logs, show            bool
}

func (a *app) tryCommand() *cobra.Command {
	var o tryOptions
	c := &cobra.Command{
		Use:   "try PATH…",
		Short: "Run a workflow here and now, without a service",
		Long: `Run a workflow here and now, to its end: nothing is scheduled, and nothing is
recorded beyond it. It runs as it would in a service, with the project's code as it is,
in a folder that is removed afterwards; capacities are as large as they need to be. Its
tasks are real: what they write elsewhere stays written. With --task only that task
is run; what comes before it is taken as done, with the results that --result gives.
With --show nothing is run: what each task would be given is printed, as far as it can
be told.`,
		Example: `  lantern try workflows/gauges.yaml
  lantern try . --workflow gauge-hourly -p basin=lower
  lantern try workflows/gauges.yaml --window 2026-03-28T06:00:00Z/2026-03-28T07:00:00Z --logs
  lantern try . --workflow gauge-hourly --task warn --result 'index={"index": 3.1, "station": "G02"}'
  lantern try . --workflow gauge-hourly --show`,
		Args: cobra.MinimumNArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			s, err := a.collect(args)
			if err != nil {
				return err
			}
			project, problems := s.load(o.environment)
			if problems != nil {
				return problems
			}
			w, err := chooseWorkflow(project, o.workflow)
			if err != nil {
				return err
			}
			request, err := o.request()
			switch {
			case err != nil:
				return err
			case o.show:
				return a.showGiven(w, request)
			}
			return a.try(c.Context(), s, project, w, request, o)
		},
	}
	c.Flags().StringVar(&o.workflow, "workflow", "", "which, if there are several")
	c.Flags().StringVar(&o.environment, "env", "", "an environment of the project, as in dev or prod")
	o.add(c, "task")
	c.Flags().BoolVar(&o.show, "show", false, "run nothing; print what each task would be given")
	c.Flags().BoolVar(&o.logs, "logs", false, "print what every task printed, not only those that failed")
	return c
}

func chooseWorkflow(project *definition.Project, name string) (*definition.Workflow, error) {
	var names []string
	for _, w := range project.Workflows {
		if w.Name == name || name == "" && len(project.Workflows) == 1 {
			return w, nil
		}
		names = append(names, w.Name)
	}
	if name == "" {
		return nil, &usageError{fmt.Errorf("there are %d workflows in it; say which with --workflow: %v", len(names), names)}
	}
	return nil, &usageError{fmt.Errorf("there is no workflow %q in it, only %v", name, names)}
}

// try has a service of its own, on a folder of its own, for one run.
func (a *app) try(ctx context.Context, s source, project *definition.Project, w *definition.Workflow, request client.StartRequest, o tryOptions) (err error) {
	dir, err := os.MkdirTemp("", "lantern-try-")
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, os.RemoveAll(dir)) }()
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	result := make(chan error, 1)
	err = service.Run(ctx, service.Options{Data: dir, Listen: "127.0.0.1:0", ByHand: true, Version: Version(), Log: slog.New(slog.DiscardHandler)}, func(running *service.Service) {
		go func() {
			defer stop()
			result <- a.tryIn(ctx, running.Address, access.TokenFile(dir), s, project, w, request, o)
		}()
	})
	if err != nil {
		return err
	}
	return <-result
}

func (a *app) tryIn(ctx context.Context, address, tokenFile string, s source, project *definition.Project, w *definition.Workflow, request client.StartRequest, o tryOptions) error {
	a.server, a.tokenFile = address, tokenFile
	c, err := a.client()
	if err != nil {
		return err
	}
	apply := client.ApplyRequest{Files: s.files, Environment: o.environment}
	if s.root != "" {
		packed, err := parcel.Pack(s.root)
		if err != nil {
			return err
		}
		if _, err := c.SendParcel(ctx, packed.Archive); err != nil {
			return err
		}
		apply.Parcel = packed.Name
	}
	if _, err := c.Apply(ctx, apply); err != nil {
		return err
	}
	for _, one := range project.Workflows { // it may start others
		for _, t := range one.Nodes() {
			for name := range t.Takes {
				if _, err := c.SetCapacity(ctx, name, 1_000_000); err != nil {
					return err
				}
			}
		}
	}
	run, err := c.Start(ctx, w.Name, request)
	if err != nil {
		return err
	}
	watched := a.watch(ctx, c, run.ID)
	if run, err = c.Run(context.WithoutCancel(ctx), run.ID); err != nil || a.format != "table" {
		return errors.Join(watched, err)
	}
	for _, t := range run.Tasks {
		if len(t.Attempts) == 0 || t.Kind == "start" || !o.logs && t.State != "failed" {
			continue
		}
		fmt.Fprintf(a.out, "\n%s\n", painter(a.out).strong("What "+t.Name+" printed:"))
		if err := a.logs(ctx, c, logOptions{run: run.ID, task: t.Name}); err != nil {
			return err
		}
	}
	return watched
}
