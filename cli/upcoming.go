package cli

import (
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"wiselantern/client"
	"wiselantern/core/calendar"
)

func (a *app) upcomingCommand() *cobra.Command {
	var workflow, ahead string
	var limit int
	feed, closeFeeds := false, false
	c := &cobra.Command{
		Use:   "upcoming",
		Short: "List what is due next",
		Long: `List what is due next, soonest first, each start with its window in the zone of its
rule, and in yours where the two differ. With --feed an address is made for calendar
programs: whoever has it reads what is due, and nothing else.`,
		Example: `  lantern upcoming
  lantern upcoming --workflow gauge-hourly --for 36h
  lantern upcoming --feed`,
		Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			service, err := a.client()
			if err != nil {
				return err
			}
			switch {
			case feed:
				made, err := service.NewFeed(c.Context())
				if err != nil {
					return err
				}
				return a.print(made, func() error {
					_, err := fmt.Fprintf(a.out, "%s%s\nWhoever has this address reads what is due. lantern upcoming --close-feeds makes all such addresses worthless.\n", strings.TrimRight(a.server, "/"), made.Path)
					return err
				})
			case closeFeeds:
				if err := service.RemoveFeeds(c.Context()); err != nil {
					return err
				}
				fmt.Fprintln(a.out, "All addresses of the calendar are worthless now.")
				return nil
			}
			page, err := service.Upcoming(c.Context(), workflow, ahead, limit)
			if err != nil {
				return err
			}
			return a.print(page, func() error {
				a.upcoming(page, ahead)
				return nil
			})
		},
	}
	c.Flags().StringVar(&workflow, "workflow", "", "only of this workflow")
	c.Flags().StringVar(&ahead, "for", "7d", "how far ahead")
	c.Flags().IntVar(&limit, "limit", 10, "at most so many of each workflow")
	c.Flags().BoolVar(&feed, "feed", false, "make an address of the calendar for calendar programs")
	c.Flags().BoolVar(&closeFeeds, "close-feeds", false, "make all such addresses worthless")
	c.MarkFlagsMutuallyExclusive("feed", "close-feeds")
	_ = c.RegisterFlagCompletionFunc("workflow", a.completeWorkflows)
	return c
}

func (a *app) upcoming(page client.UpcomingPage, ahead string) {
	p := painter(a.out)
	if len(page.Upcoming) == 0 {
		fmt.Fprintf(a.out, "Nothing is due in the next %s.\n", ahead)
		return
	}
	var rows [][]string
	for _, u := range page.Upcoming {
		zone, err := time.LoadLocation(u.Zone)
		if err != nil {
			zone = time.UTC
		}
		one := upcoming{Rule: u.Rule, Due: u.Due.In(zone)}
		if u.Window != nil {
			one.Window = calendar.Window{Start: u.Window.Start.In(zone), End: u.Window.End.In(zone)}
		}
		note := windowInWords(one)
		if u.Paused {
			note = p.mark("held", "◇ paused") + "  " + note
		}
		rows = append(rows, []string{p.strong(u.Workflow), "in " + length(time.Until(u.Due)), note})
	}
	p.table(a.out, []string{"workflow", "due", "window"}, rows)
	if page.More {
		fmt.Fprintln(a.out, p.dim("There is more; say --limit N for more of each workflow."))
	}
}
