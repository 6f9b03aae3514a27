package cli

import (
	"fmt"
	"strconv"

	"github.com/spf13/cobra"

	"wiselantern/client"
)

func (a *app) capacityCommand() *cobra.Command {
	list := &cobra.Command{
		Use:   "capacity",
		Short: "List the capacities, or set one",
		Long: `List the capacities: how many units there are of each, how many are in use, and how
many attempts wait for them. A task takes units with takes: {warehouse: 1}; it gets
none until somebody has said how many there are.`,
		Example: `  lantern capacity
  lantern capacity set warehouse 4`,
		RunE: func(c *cobra.Command, _ []string) error {
			service, err := a.client()
			if err != nil {
				return err
			}
			all, err := service.Capacities(c.Context())
			if err != nil {
				return err
			}
			return a.print(client.Capacities{Capacities: all}, func() error {
				if len(all) == 0 {
					fmt.Fprintln(a.out, "There are no capacities. Set one: lantern capacity set NAME UNITS")
					return nil
				}
				var rows [][]string
				for _, one := range all {
					units := strconv.Itoa(one.Units)
					if !one.Set {
						units = "not set"
					}
					rows = append(rows, []string{one.Name, units, strconv.Itoa(one.InUse), strconv.Itoa(one.Waiting)})
				}
				painter(a.out).table(a.out, []string{"capacity", "units", "in use", "waiting"}, rows)
				return nil
			})
		},
	}
	set := &cobra.Command{
		Use:   "set NAME UNITS",
		Short: "Say how many units of a capacity there are",
		Long: `Say how many units of a capacity there are. With fewer than are in use, what runs goes
on and nothing more begins until there is room. 0 lets nothing begin.`,
		Example: `  lantern capacity set warehouse 4`,
		Args:    usage(cobra.ExactArgs(2)),
		RunE: func(c *cobra.Command, args []string) error {
			units, err := strconv.Atoi(args[1])
			if err != nil || units < 0 {
				return &usageError{fmt.Errorf("%q is no number of units; write a whole number from 0", args[1])}
			}
			service, err := a.client()
			if err != nil {
				return err
			}
			one, err := service.SetCapacity(c.Context(), args[0], units)
			if err != nil {
				return err
			}
			return a.print(one, func() error {
				_, err := fmt.Fprintf(a.out, "%s has %s, %d of them in use\n", one.Name, plural(one.Units, "unit"), one.InUse)
				return err
			})
		},
	}
	list.AddCommand(set)
	return list
}
