package cli

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"wiselantern/client"
)

func (a *app) workersCommand() *cobra.Command {
	list := &cobra.Command{
		Use:   "workers",
		Short: "List the workers and what they do, or say who may work",
		Example: `  lantern workers
  lantern workers admit field-1 > field-1.credentials
  lantern workers drain field-1`,
		RunE: func(c *cobra.Command, _ []string) error {
			service, err := a.client()
			if err != nil {
				return err
			}
			list, err := service.Workers(c.Context())
			if err != nil {
				return err
			}
			return a.print(list, func() error { a.workerTable(list); return nil })
		},
	}
	list.AddCommand(a.crewCommands()...)
	return list
}

func (a *app) workerTable(list client.Workers) {
	p := painter(a.out)
	if len(list.Workers) == 0 {
		fmt.Fprintln(a.out, "There is no worker; what is ready waits for one.")
		return
	}
	var rows [][]string
	for _, w := range list.Workers {
		heard := when(&w.Heard)
		switch {
		case w.Silent:
			heard = p.mark("failed", "silent since "+heard)
		case w.Draining:
			heard = p.mark("waiting", "drains")
		}
		takes := strings.Join(w.Queues, " ")
		for _, label := range slices.Sorted(maps.Keys(w.Labels)) {
			takes += p.dim(" " + label + "=" + w.Labels[label])
		}
		rows = append(rows, []string{p.strong(w.Name), takes, fmt.Sprintf("%d of %d", len(w.Does), w.Slots), fmt.Sprintf("%.2f on %s", w.Load, plural(w.CPUs, "processor")),
			bytesOf(w.Memory) + " of " + bytesOf(w.Total), when(&w.Since), heard})
	}
	p.table(a.out, []string{"worker", "takes from", "slots in use", "load", "memory", "there since", "last heard"}, rows)
	if list.Ready > 0 {
		fmt.Fprintf(a.out, "%s\n", p.mark("ready", plural(list.Ready, "attempt")+" ready, waiting for a slot or for capacity"))
	}
	for _, w := range list.Workers {
		if len(w.Does) == 0 {
			continue
		}
		fmt.Fprintln(a.out)
		rows = nil
		for _, d := range w.Does {
			rows = append(rows, []string{p.mark("running", "◐ "+d.Run), d.Task, fmt.Sprintf("attempt %d", d.Attempt), length(time.Since(d.Started))})
		}
		p.table(a.out, []string{"does", "task", "", "for"}, rows)
	}
}

// bytesOf is an amount of memory as people say it.
func bytesOf(n int64) string {
	switch {
	case n >= 10<<30:
		return fmt.Sprintf("%.0f GB", float64(n)/(1<<30))
	case n >= 1<<30:
		return fmt.Sprintf("%.1f GB", float64(n)/(1<<30))
	case n >= 1<<20:
		return fmt.Sprintf("%.0f MB", float64(n)/(1<<20))
	}
	return fmt.Sprintf("%.0f KB", float64(n)/(1<<10))
}

// lengthOf is a number of seconds as people say it.
func lengthOf(s float64) string { return length(time.Duration(s * float64(time.Second))) }

func (a *app) usageCommand() *cobra.Command {
	weeks := 4
	c := &cobra.Command{
		Use:   "usage",
		Short: "List what workflows used, week by week",
		Long: `List the processor time that the tasks of each workflow used, as the operating
system tells it, by the weeks in which runs ended, and what that cost if the service
was told the price of an hour (serve --price-per-hour).`,
		Example: `  lantern usage
  lantern usage --weeks 12 -o json`,
		RunE: func(c *cobra.Command, _ []string) error {
			service, err := a.client()
			if err != nil {
				return err
			}
			if weeks < 1 || weeks > 52 {
				return &usageError{fmt.Errorf("--weeks %d: write a number from 1 to 52", weeks)}
			}
			used, err := service.Usage(c.Context(), weeks)
			if err != nil {
				return err
			}
			return a.print(used, func() error { a.usageTable(used); return nil })
		},
	}
	c.Flags().IntVar(&weeks, "weeks", 4, "how many weeks, the one that goes among them")
	return c
}

func (a *app) usageTable(u client.Usage) {
	if len(u.Workflows) == 0 {
		fmt.Fprintln(a.out, "No run has ended in these weeks.")
		return
	}
	p := painter(a.out)
	head := []string{"workflow"}
	for _, w := range u.Weeks {
		head = append(head, "week of "+w.Format("2 Jan"))
	}
	head = append(head, "most memory")
	var rows [][]string
	for _, w := range u.Workflows {
		row := []string{p.strong(w.Workflow)}
		var peak int64
		for _, week := range w.Weeks {
			text := "–"
			if week.Runs > 0 {
				text = fmt.Sprintf("%s in %s", lengthOf(week.CPU), plural(week.Runs, "run"))
				if u.PerHour > 0 {
					text += fmt.Sprintf(", %.2f", week.Price)
				}
			}
			row = append(row, text)
			peak = max(peak, week.Peak)
		}
		most := "–"
		if peak > 0 {
			most = bytesOf(peak)
		}
		rows = append(rows, append(row, most))
	}
	p.table(a.out, head, rows)
	fmt.Fprintln(a.out, p.dim("Processor time of all attempts, from the operating system."))
}
