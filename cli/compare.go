package cli

import (
	"fmt"

	"github.com/spf13/cobra"

	"wiselantern/client"
)

func (a *app) compareCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "compare RUN RUN",
		Short: "Set two runs of a workflow side by side",
		Long: `Set two runs of a workflow side by side: what their definitions, params and results
have differently, how long each task took, and the first task at which they part.`,
		Example: `  lantern compare gauge-hourly:411 gauge-hourly:412
  lantern compare gauge-hourly:411 gauge-hourly -o json`,
		Args:              cobra.ExactArgs(2),
		ValidArgsFunction: a.completeRuns,
		RunE: func(c *cobra.Command, args []string) error {
			service, err := a.client()
			if err != nil {
				return err
			}
			compared, err := service.Compare(c.Context(), args[0], args[1])
			if err != nil {
				return err
			}
			return a.print(compared, func() error { a.comparison(compared); return nil })
		},
	}
}

func (a *app) comparison(c client.Comparison) {
	p := painter(a.out)
	head := []string{"", c.A.ID, c.B.ID}
	rows := [][]string{
		{p.dim("state"), p.state(c.A.State), p.state(c.B.State)},
		{p.dim("window"), span(c.A.Window), span(c.B.Window)},
		{p.dim("started"), when(c.A.Started), when(c.B.Started)},
		{p.dim("took"), took(c.A.Started, c.A.Ended), took(c.B.Started, c.B.Ended)},
		{p.dim("version"), fmt.Sprint(c.A.Version), fmt.Sprint(c.B.Version)},
		{p.dim("cause"), c.A.Cause, c.B.Cause},
	}
	for _, d := range c.Contrasts {
		rows = append(rows, []string{d.Kind + " " + d.Name, orDash(d.Before), orDash(d.After)})
	}
	p.table(a.out, head, rows)
	fmt.Fprintln(a.out)
	if c.Part == "" {
		fmt.Fprintln(a.out, "They nowhere part: each task came out the same, with the same result.")
	} else {
		fmt.Fprintf(a.out, "They part at %s: %s.\n", p.strong(c.Part), c.How)
	}
	fmt.Fprintln(a.out)
	rows = nil
	for _, t := range c.Tasks {
		row := []string{t.Name, sideOf(p, t.AState, t.ASeconds), sideOf(p, t.BState, t.BSeconds), ""}
		if t.Name == c.Part {
			row[3] = p.mark("failed", "← they part")
		}
		rows = append(rows, row)
		for _, d := range t.Differs {
			if d.Kind == "result" {
				rows = append(rows, []string{p.dim("  " + d.Name), orDash(d.Before), orDash(d.After), ""})
			}
		}
	}
	p.table(a.out, []string{"task", "", "", ""}, rows)
}

func sideOf(p paint, state string, s float64) string {
	if state == "" {
		return p.dim("not there")
	}
	text := p.state(state)
	if s > 0 {
		text += "  " + lengthOf(s)
	}
	return text
}
