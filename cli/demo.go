package cli

import (
	"context"
	"fmt"
	"net/http"
	"path/filepath"
	"time"

	"github.com/spf13/cobra"

	"wiselantern/client"
	"wiselantern/demo"
	"wiselantern/parcel"
	"wiselantern/service"
)

func (a *app) demoCommand() *cobra.Command {
	o := &serveOptions{endTasks: true}
	dir, hours := "", 0
	c := &cobra.Command{
		Use:   "demo",
		Short: "Run the service with an example project",
		Long: `Run the service with an example project: a network of river gauges, all of it made
up. The folder gets the project, three weeks of its readings with the faults
that real data has, and the service's data. Started again, it goes on.`,
		Example: `  lantern demo
  lantern demo --dir /tmp/rivers --listen 127.0.0.1:7641`,
		RunE: func(c *cobra.Command, _ []string) error {
			full, err := filepath.Abs(dir)
			if err != nil {
				return err
			}
			o.data = filepath.Join(full, "data")
			place := demo.Place{Dir: full}
			if o.files == "" {
				o.files = place.River()
			}
			office, err := place.ListenAsPartner()
			if err != nil {
				return err
			}
			defer office.Close()
			fmt.Fprintf(a.out, "Writing the example project and its readings to %s\n", full)
			now := time.Now()
			if err := place.Write(now, office.Addr().String()); err != nil {
				return err
			}
			partner := &http.Server{Handler: &demo.Partner{Slow: 8 * time.Second, Ready: time.Hour}, ReadHeaderTimeout: 10 * time.Second}
			go partner.Serve(office) // until the demo ends; who asks then is told that nobody answers
			defer partner.Close()
			return a.serve(c.Context(), o, func(ctx context.Context, s *service.Service) error {
				return a.playDemo(ctx, s, place, now, hours)
			})
		},
	}
	o.register(c)
	c.Flags().StringVar(&dir, "dir", "lantern-demo", "folder for the example and the service's data")
	c.Flags().IntVar(&hours, "hours", 24, "how many past hours to work through at the first start")
	return c
}

// playDemo applies the example, works through the last hours at the first
// start, and keeps the readings coming until ctx is done.
func (a *app) playDemo(ctx context.Context, s *service.Service, place demo.Place, now time.Time, hours int) error {
	a.server = s.Address
	a.tokenFile = filepath.Join(place.Dir, "data", "token")
	c, err := a.client()
	if err != nil {
		return err
	}
	source, err := a.collect([]string{place.Project()})
	if err != nil {
		return err
	}
	packed, err := parcel.Pack(source.root)
	if err != nil {
		return err
	}
	if _, err := c.SendParcel(ctx, packed.Archive); err != nil {
		return err
	}
	applied, err := c.Apply(ctx, client.ApplyRequest{Files: source.files, Parcel: packed.Name})
	if err != nil {
		return err
	}
	first := false
	for _, w := range applied.Workflows {
		first = first || w.Change == "new"
	}
	if first {
		fmt.Fprintf(a.out, "Working through the last %d hours of readings. Look at them with:\n  lantern runs --server %s\n", hours, s.Address)
		if err := startDemo(ctx, c, now, hours); err != nil {
			return err
		}
	}
	if err := playOutside(ctx, c, s.Address, place); err != nil {
		return err
	}
	return place.Keep(ctx)
}

// playOutside has things happen outside: the weather office announces a storm by its
// hook, and the crew drop a scan that is written slowly.
func playOutside(ctx context.Context, c *client.Client, address string, place demo.Place) error {
	hook, err := c.AddHook(ctx, "weather", client.HookSettings{Map: map[string]string{
		"type": "storm.${body.kind}", "source": "/weather-office", "subject": "${body.basin}", "id": "${body.bulletin}", "data": "${ {'level': body.level} }",
	}})
	if err != nil {
		return err
	}
	now := time.Now()
	for i, w := range []demo.Warning{{Kind: "watch", Basin: "lower", Level: 1.2}, {Kind: "warning", Basin: "lower", Level: 1.4}, {Kind: "warning", Basin: "upper", Level: 2.7}} {
		w.Bulletin = fmt.Sprintf("%s-%d", now.UTC().Format("20060102-1504"), i+1)
		if err := demo.Announce(ctx, address+hook.Path, hook.Secret, w, now); err != nil {
			return fmt.Errorf("the weather office of the example cannot announce a storm: %w", err)
		}
	}
	return place.Scan(ctx, "G02", now, 500*time.Millisecond)
}

// startDemo starts the runs that the example begins with. The table of the day
// comes when the hours that it is made of are in.
func startDemo(ctx context.Context, c *client.Client, now time.Time, hours int) error {
	if _, err := c.SetCapacity(ctx, "store", 2); err != nil {
		return err
	}
	for _, station := range []string{"G02", "G05"} {
		if _, err := c.Start(ctx, "recalibrate", client.StartRequest{Texts: map[string]string{"station": station}}); err != nil {
			return err
		}
	}
	if _, err := c.Start(ctx, "flood-round", client.StartRequest{}); err != nil {
		return err
	}
	end := now.UTC().Truncate(time.Hour)
	var last client.Run
	for h := hours; h > 0; h-- {
		window := &client.Window{Start: end.Add(-time.Duration(h) * time.Hour), End: end.Add(-time.Duration(h-1) * time.Hour)}
		var err error
		if last, err = c.Start(ctx, "gauge-hourly", client.StartRequest{Window: window}); err != nil {
			return err
		}
	}
	if last.ID != "" {
		if _, err := c.FollowRun(ctx, last.ID, nil); err != nil {
			return err
		}
	}
	today := now.UTC().Truncate(24 * time.Hour)
	if _, err := c.Start(ctx, "day-bulletin", client.StartRequest{Window: &client.Window{Start: today, End: today.AddDate(0, 0, 1)}}); err != nil {
		return err
	}
	if _, err := c.Start(ctx, "basin-daily", client.StartRequest{Window: &client.Window{Start: today.AddDate(0, 0, -1), End: today}}); err != nil {
		return err
	}
	_, err := c.Start(ctx, "year-review", client.StartRequest{})
	return err
}
