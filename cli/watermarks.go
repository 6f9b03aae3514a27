package cli

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"wiselantern/client"
	"wiselantern/core/definition"
)

func (a *app) watermarksCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "watermarks WORKFLOW [NAME | NAME=VALUE]",
		Short: "Show or set the values that a workflow keeps from run to run",
		Long: `Show the watermarks of a workflow: the small values that it keeps from run to run.
With NAME what it was and who set it, newest first; with NAME=VALUE set it by hand, for
the runs that are made from then on.`,
		Example: `  lantern watermarks gauge-hourly
  lantern watermarks gauge-hourly last_hour
  lantern watermarks gauge-hourly last_hour=2026-03-28T06:00:00Z`,
		Args:              cobra.RangeArgs(1, 2),
		ValidArgsFunction: a.completeWorkflows,
		RunE: func(c *cobra.Command, args []string) error {
			service, err := a.client()
			if err != nil {
				return err
			}
			var list []client.Watermark
			name, value, sets := "", "", false
			if len(args) == 2 {
				name, value, sets = strings.Cut(args[1], "=")
			}
			switch {
			case sets:
				list, err = service.SetWatermark(c.Context(), args[0], name, value)
			case name != "":
				list, err = service.WatermarkHistory(c.Context(), args[0], name)
			default:
				list, err = service.Watermarks(c.Context(), args[0])
			}
			if err != nil {
				return err
			}
			return a.print(client.Watermarks{Watermarks: list}, func() error {
				a.watermarks(args[0], list)
				return nil
			})
		},
	}
}

func (a *app) watermarks(workflow string, list []client.Watermark) {
	p := painter(a.out)
	if len(list) == 0 {
		fmt.Fprintf(a.out, "There is nothing; %s keeps no such value.\n", workflow)
		return
	}
	var rows [][]string
	for _, m := range list {
		by := "initial"
		switch {
		case m.Run != "":
			by = m.Run
		case m.Person != "":
			by = m.Person
		}
		rows = append(rows, []string{p.strong(m.Name), orDash(shortened(definition.Values{}.Text(m.Value), 60)), when(m.At), by, m.About})
	}
	p.table(a.out, []string{"watermark", "value", "set", "by", "about"}, rows)
}
