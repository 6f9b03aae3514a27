package cli

import (
	"strings"

	"github.com/spf13/cobra"

	"wiselantern/client"
)

func (a *app) completeWorkflows(c *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
	service, err := a.client()
	if err != nil || len(args) > 0 {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	list, err := service.Workflows(c.Context())
	if err != nil {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	var names []string
	for _, w := range list {
		names = append(names, w.Name+"\t"+w.About)
	}
	return names, cobra.ShellCompDirectiveNoFileComp
}

func (a *app) completeRuns(c *cobra.Command, args []string, typed string) ([]string, cobra.ShellCompDirective) {
	service, err := a.client()
	if err != nil || len(args) > 0 {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	workflow, _, _ := strings.Cut(typed, ":")
	page, err := service.Runs(c.Context(), client.RunsFilter{Workflow: workflow, Limit: 50})
	if err != nil { // the name is not whole yet
		page, err = service.Runs(c.Context(), client.RunsFilter{Limit: 50})
	}
	if err != nil {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	var names []string
	for _, r := range page.Runs {
		names = append(names, r.ID+"\t"+r.State)
	}
	return names, cobra.ShellCompDirectiveNoFileComp
}

func (a *app) completeTasks(c *cobra.Command, args []string, typed string) ([]string, cobra.ShellCompDirective) {
	if len(args) == 0 {
		return a.completeRuns(c, args, typed)
	}
	service, err := a.client()
	if err != nil || len(args) > 1 {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	run, err := service.Run(c.Context(), args[0])
	if err != nil {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	var names []string
	for _, t := range run.Tasks {
		names = append(names, t.Name+"\t"+t.State)
	}
	return names, cobra.ShellCompDirectiveNoFileComp
}
