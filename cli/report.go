package cli

import (
	"context"
	_ "embed"
	"encoding/csv"
	"fmt"
	"html/template"
	"io"
	"os"
	"time"

	"github.com/spf13/cobra"

	"wiselantern/client"
)

//go:embed report.html
var reportPage string

// report is what the page of a run or a day is made from.
type report struct {
	Title    string           `json:"title"`
	Made     time.Time        `json:"made"`
	Server   string           `json:"server"`
	Day      string           `json:"day,omitempty"`
	Run      *client.Run      `json:"run,omitempty"`
	Forecast *client.Forecast `json:"forecast,omitempty"`
	Runs     []client.Run     `json:"runs,omitempty"`
	Counts   map[string]int   `json:"counts"`
	Troubles []client.Trouble `json:"troubles,omitempty"`

	zone *time.Location // in which the page tells moments
}

func (a *app) reportCommand() *cobra.Command {
	var day, to, as, zoneName string
	c := &cobra.Command{
		Use:   "report [RUN]",
		Short: "Make a report of a run or of a day, as one page",
		Long: `Make a report of a run, or with --day of all runs that ended on that day: one HTML
page that stands alone and can be mailed or attached, or the same as CSV or JSON. A link
leads from each run to the console.`,
		Example: `  lantern report gauge-hourly:412 --to run.html
  lantern report --day 2026-03-28 --zone Europe/Oslo --to day.html
  lantern report --day yesterday --as csv`,
		Args:              cobra.MaximumNArgs(1),
		ValidArgsFunction: a.completeRuns,
		RunE: func(c *cobra.Command, args []string) error {
			if (len(args) == 1) == (day != "") {
				return &usageError{fmt.Errorf("say either a RUN, or --day DATE")}
			}
			service, err := a.client()
			if err != nil {
				return err
			}
			var r report
			if day != "" {
				r, err = a.reportOfDay(c.Context(), service, day, zoneName)
			} else {
				r, err = a.reportOfRun(c.Context(), service, args[0])
			}
			if err != nil {
				return err
			}
			return a.writeReport(r, to, as)
		},
	}
	c.Flags().StringVar(&day, "day", "", "all runs that ended on this date, or today, or yesterday")
	c.Flags().StringVar(&zoneName, "zone", "", "whose day that is, as in Europe/Oslo (default that of this machine)")
	c.Flags().StringVar(&to, "to", "", "the file to write (default standard output)")
	c.Flags().StringVar(&as, "as", "html", "html, csv or json")
	return c
}

func (a *app) reportOfRun(ctx context.Context, service *client.Client, id string) (r report, err error) {
	run, err := service.RunFolded(ctx, id)
	if err != nil {
		return r, err
	}
	forecast, err := service.Forecast(ctx, run.ID)
	if err != nil {
		return r, err
	}
	return report{Title: "Run " + run.ID, Made: time.Now(), Server: a.server, Run: &run, Forecast: &forecast, Counts: run.Counts, zone: time.Local}, nil
}

func (a *app) reportOfDay(ctx context.Context, service *client.Client, day, zoneName string) (r report, err error) {
	zone := time.Local
	if zoneName != "" {
		if zone, err = time.LoadLocation(zoneName); err != nil {
			return r, &usageError{fmt.Errorf("--zone %q: write a name of the IANA time zone database, as in Europe/Oslo", zoneName)}
		}
	}
	now := time.Now().In(zone)
	from := time.Date(now.Year(), now.Month(), now.Day(), 0, 0, 0, 0, zone)
	switch day {
	case "today":
	case "yesterday":
		from = from.AddDate(0, 0, -1)
	default:
		if from, err = time.ParseInLocation(time.DateOnly, day, zone); err != nil {
			return r, &usageError{fmt.Errorf("--day %q: write a date, as in 2026-03-28, or today, or yesterday", day)}
		}
	}
	r = report{Title: "Runs that ended on " + from.Format("Monday 2 January 2006"), Day: from.Format(time.DateOnly), Made: time.Now(), Server: a.server, Counts: map[string]int{}, Runs: []client.Run{}, zone: zone}
	f := client.RunsFilter{EndedFrom: from.UTC().Format(time.RFC3339), EndedUntil: from.AddDate(0, 0, 1).UTC().Format(time.RFC3339), Limit: 500}
	for {
		page, err := service.Runs(ctx, f)
		if err != nil {
			return r, err
		}
		r.Runs = append(r.Runs, page.Runs...)
		if f.Before = page.Next; f.Before == "" {
			break
		}
	}
	for _, run := range r.Runs {
		r.Counts[run.State]++
	}
	r.Troubles, err = service.Troubles(ctx, client.WatchChoice{}, false)
	return r, err
}

func (a *app) writeReport(r report, to, as string) error {
	var write func(io.Writer) error
	switch as {
	case "html":
		page, err := template.New("report").Funcs(template.FuncMap{
			"at":     r.at,
			"took":   took,
			"span":   r.span,
			"lacks":  windowsWithout,
			"glyph":  glyph,
			"bytes":  bytesOf,
			"length": lengthOf,
		}).Parse(reportPage)
		if err != nil {
			return err
		}
		write = func(out io.Writer) error { return page.Execute(out, r) }
	case "csv":
		write = r.csv
	case "json":
		write = func(out io.Writer) error {
			whole := *a
			whole.out, whole.format = out, "json"
			return whole.print(r, nil)
		}
	default:
		return &usageError{fmt.Errorf("--as %q: write html, csv or json", as)}
	}
	if to == "" {
		return write(a.out)
	}
	file, err := os.Create(to)
	if err != nil {
		return fmt.Errorf("the report cannot be written: %w", err)
	}
	if err := write(file); err != nil {
		file.Close()
		return fmt.Errorf("the report cannot be written: %w", err)
	}
	if err := file.Close(); err != nil {
		return fmt.Errorf("the report cannot be written: %w", err)
	}
	_, err = fmt.Fprintf(a.err, "Written to %s\n", to)
	return err
}

// at is a moment as a page tells it that is read on another day and elsewhere.
func (r report) at(moment any) string {
	switch t := moment.(type) {
	case time.Time:
		return t.In(r.zone).Format("2006-01-02 15:04:05 MST")
	case *time.Time:
		if t != nil {
			return r.at(*t)
		}
	}
	return "–"
}

// span is a window in the same way.
func (r report) span(w *client.Window) string {
	if w == nil {
		return "–"
	}
	start, end := w.Start.In(r.zone), w.End.In(r.zone)
	if start.Format(time.DateOnly) == end.Format(time.DateOnly) {
		return start.Format("2006-01-02 15:04") + "–" + end.Format("15:04 MST")
	}
	return start.Format("2006-01-02 15:04") + " – " + end.Format("2006-01-02 15:04 MST")
}

// csv is a line for each task of a run, or for each run of a day; moments are
// RFC 3339 in UTC, lengths seconds.
func (r report) csv(out io.Writer) error {
	w := csv.NewWriter(out)
	moment := func(t *time.Time) string {
		if t == nil {
			return ""
		}
		return t.UTC().Format(time.RFC3339)
	}
	lasted := func(from, to *time.Time) string {
		if from == nil || to == nil {
			return ""
		}
		return fmt.Sprintf("%.3f", to.Sub(*from).Seconds())
	}
	var rows [][]string
	if r.Run != nil {
		rows = append(rows, []string{"task", "state", "attempts", "started", "ended", "seconds", "cpu_seconds", "peak_bytes", "error"})
		for _, t := range r.Run.Tasks {
			var cpu float64
			var peak int64
			for _, at := range t.Attempts {
				cpu, peak = cpu+at.CPU, max(peak, at.Peak)
			}
			rows = append(rows, []string{t.Name, t.State, fmt.Sprint(len(t.Attempts)), moment(t.Started), moment(t.Ended), lasted(t.Started, t.Ended), fmt.Sprintf("%.3f", cpu), fmt.Sprint(peak), t.Error})
		}
	} else {
		rows = append(rows, []string{"run", "state", "cause", "window_start", "window_end", "started", "ended", "seconds", "cpu_seconds", "peak_bytes"})
		for _, run := range r.Runs {
			row := []string{run.ID, run.State, run.Cause, "", "", moment(run.Started), moment(run.Ended), lasted(run.Started, run.Ended), "", ""}
			if run.Window != nil {
				row[3], row[4] = moment(&run.Window.Start), moment(&run.Window.End)
			}
			if run.Used != nil {
				row[8], row[9] = fmt.Sprintf("%.3f", run.Used.CPU), fmt.Sprint(run.Used.Peak)
			}
			rows = append(rows, row)
		}
	}
	if err := w.WriteAll(rows); err != nil {
		return err
	}
	return w.Error()
}
