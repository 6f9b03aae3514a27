package cli

import (
	"encoding/json"
	"fmt"
	"io"
	"os"
	"strings"
	"time"

	"github.com/charmbracelet/lipgloss"
	"github.com/charmbracelet/x/ansi"
	"github.com/goccy/go-yaml"
	"golang.org/x/term"

	"wiselantern/client"
	"wiselantern/core/flow"
)

// print writes a value in the format that was asked for; table writes it for
// people.
func (a *app) print(value any, table func() error) error {
	if a.format == "table" {
		return table()
	}
	text, err := json.MarshalIndent(value, "", "  ")
	if err != nil {
		return err
	}
	if a.format == "yaml" {
		if text, err = yaml.JSONToYAML(text); err != nil {
			return err
		}
	}
	_, err = fmt.Fprintln(a.out, strings.TrimRight(string(text), "\n"))
	return err
}

// paint knows the colours of a terminal; where there is none, or NO_COLOR is
// set, it has no colours.
type paint struct{ renderer *lipgloss.Renderer }

func painter(out io.Writer) paint { return paint{lipgloss.NewRenderer(out)} }

// tint is a colour for each kind of terminal: with millions of colours on a light
// and on a dark ground, and with sixteen.
type tint struct{ light, dark, sixteen string }

var (
	teal      = tint{"#0b7a6f", "#4fd1c1", "6"}
	vermilion = tint{"#c2361b", "#ff8063", "1"}
	amber     = tint{"#945c00", "#f5b84b", "3"}
	blue      = tint{"#3a5fa8", "#8fb0f0", "4"}
	violet    = tint{"#6b45b8", "#b79cf5", "5"}
	slate     = tint{"#64708a", "#8793ab", "8"}
)

func (p paint) tinted(t tint, text string) string {
	return p.renderer.NewStyle().Foreground(lipgloss.CompleteAdaptiveColor{
		Light: lipgloss.CompleteColor{TrueColor: t.light, ANSI256: t.light, ANSI: t.sixteen},
		Dark:  lipgloss.CompleteColor{TrueColor: t.dark, ANSI256: t.dark, ANSI: t.sixteen},
	}).Render(text)
}

func (p paint) dim(text string) string    { return p.tinted(slate, text) }
func (p paint) strong(text string) string { return p.renderer.NewStyle().Bold(true).Render(text) }

// state is a state of a task or a run with its glyph, in its colour.
func (p paint) state(state string) string { return p.mark(state, glyph(state)+" "+state) }

func (p paint) mark(state, text string) string {
	switch state {
	case "succeeded":
		return p.tinted(teal, text)
	case "failed":
		return p.tinted(vermilion, text)
	case "running", "cooling":
		return p.tinted(amber, text)
	case "ready", "queued", "sent":
		return p.tinted(blue, text)
	case "waiting", "held", "lost":
		return p.tinted(violet, text)
	}
	return p.dim(text)
}

func glyph(state string) string {
	switch state {
	case "queued", "sent":
		return flow.Ready.Glyph()
	case "lost":
		return flow.Unreached.Glyph()
	}
	s, err := flow.ParseState(state)
	if err != nil {
		return "?"
	}
	return s.Glyph()
}

// table prints rows under a head, in columns as wide as they need to be; on a
// terminal what does not fit its width is cut.
func (p paint) table(out io.Writer, head []string, rows [][]string) {
	width := 0
	if file, ok := out.(*os.File); ok {
		width, _, _ = term.GetSize(int(file.Fd())) // 0 where there is no terminal
	}
	p.tableWithin(out, head, rows, width)
}

// tableWithin is table in that many columns of a terminal; 0 is any number.
func (p paint) tableWithin(out io.Writer, head []string, rows [][]string, width int) {
	widths := make([]int, len(head))
	for i, h := range head {
		widths[i] = len(h)
	}
	for _, row := range rows {
		for i, cell := range row {
			widths[i] = max(widths[i], lipgloss.Width(cell))
		}
	}
	narrow(widths, width)
	line := func(cells []string, style func(string) string) {
		var text strings.Builder
		for i, cell := range cells {
			cell = ansi.Truncate(cell, widths[i], "…")
			pad := strings.Repeat(" ", widths[i]-lipgloss.Width(cell))
			if i == len(cells)-1 {
				pad = ""
			}
			text.WriteString(style(cell) + pad + "  ")
		}
		fmt.Fprintln(out, strings.TrimRight(text.String(), " "))
	}
	line(head, p.dim)
	for _, row := range rows {
		line(row, func(text string) string { return text })
	}
}

// narrowest is how narrow a column may become.
const narrowest = 8

// narrow takes from the widest columns, again and again, until all fit.
func narrow(widths []int, width int) {
	if width <= 0 {
		return
	}
	for {
		total, widest, second := 2*(len(widths)-1), 0, narrowest
		for i, w := range widths {
			if total += w; w > widths[widest] {
				widest = i
			}
		}
		if total <= width || widths[widest] <= narrowest {
			return
		}
		for i, w := range widths {
			if i != widest {
				second = max(second, w)
			}
		}
		widths[widest] = max(narrowest, min(widths[widest]-1, max(second-1, widths[widest]-(total-width))))
	}
}

// when is a moment in the reader's zone, no longer than it needs to be.
func when(t *time.Time) string {
	if t == nil {
		return "–"
	}
	local, now := t.Local(), time.Now()
	switch {
	case local.YearDay() == now.YearDay() && local.Year() == now.Year():
		return local.Format("15:04:05")
	case local.Year() == now.Year():
		return local.Format("Mon 2 Jan 15:04")
	}
	return local.Format("2006-01-02 15:04")
}

// span is a window in the reader's zone.
func span(w *client.Window) string {
	if w == nil {
		return "–"
	}
	start, end := w.Start.Local(), w.End.Local()
	if start.Year() == end.Year() && start.YearDay() == end.YearDay() {
		return start.Format("Mon 2 Jan 15:04") + "–" + end.Format("15:04")
	}
	if midnight := start.AddDate(0, 0, 1).Format(time.DateOnly); end.Format("2006-01-02 15:04") == midnight+" 00:00" && start.Format("15:04") != "00:00" {
		return start.Format("Mon 2 Jan 15:04") + "–24:00"
	}
	return start.Format("Mon 2 Jan 15:04") + " – " + end.Format("Mon 2 Jan 15:04")
}

// took is how long something lasted, or has lasted until now.
func took(start, end *time.Time) string {
	if start == nil {
		return "–"
	}
	until := time.Now()
	if end != nil {
		until = *end
	}
	return length(until.Sub(*start))
}

func length(d time.Duration) string {
	switch {
	case d < 0:
		return "0s"
	case d < time.Second:
		return fmt.Sprintf("%dms", d.Milliseconds())
	case d < 10*time.Second:
		return fmt.Sprintf("%.1fs", d.Seconds())
	case d < time.Minute:
		return fmt.Sprintf("%.0fs", d.Seconds())
	case d < time.Hour:
		return fmt.Sprintf("%dm%02ds", int(d.Minutes()), int(d.Seconds())%60)
	case d < 48*time.Hour:
		return fmt.Sprintf("%dh%02dm", int(d.Hours()), int(d.Minutes())%60)
	}
	return fmt.Sprintf("%dd%02dh", int(d.Hours())/24, int(d.Hours())%24)
}

// counts is how many tasks are in each state, in the order of the states.
func (p paint) counts(counts map[string]int) string {
	var parts []string
	for _, s := range flow.States() {
		if n := counts[s.String()]; n > 0 {
			parts = append(parts, p.mark(s.String(), fmt.Sprintf("%s %d", s.Glyph(), n)))
		}
	}
	return strings.Join(parts, "  ")
}

// plural is a number of things, as in "1 mistake" or "3 mistakes".
func plural(n int, thing string) string {
	if n == 1 {
		return "1 " + thing
	}
	return fmt.Sprintf("%d %ss", n, thing)
}

func orDash(text string) string {
	if text == "" {
		return "–"
	}
	return text
}
