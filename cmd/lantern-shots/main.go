// Command lantern-shots makes the pictures of docs/screenshots anew: it starts
// the built binary with the example project, waits until its runs have ended,
// and takes each page of the console and the output of the main commands. It is
// run by make screenshots, in the project's folder.
package main

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"html"
	"io"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"syscall"
	"time"

	"github.com/chromedp/chromedp"

	"wiselantern/client"
	"wiselantern/internal/browser"
)

func main() {
	out := filepath.Join("docs", "screenshots")
	if len(os.Args) > 1 {
		out = os.Args[1]
	}
	ctx, stop := context.WithTimeout(context.Background(), 5*time.Minute)
	defer stop()
	if err := run(ctx, out); err != nil {
		fmt.Fprintln(os.Stderr, "lantern-shots:", err)
		os.Exit(1)
	}
}

// example is the running service with the example project.
type example struct {
	binary, dir, server, link string
	process                   *exec.Cmd
}

func run(ctx context.Context, out string) error {
	dir, err := os.MkdirTemp("", "lantern-shots-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	binary, err := filepath.Abs(filepath.Join("bin", "lantern"))
	if err != nil {
		return err
	}
	e := &example{binary: binary, dir: filepath.Join(dir, "rivers")}
	if err := e.start(ctx); err != nil {
		return err
	}
	defer e.stop()
	if err := e.wait(ctx); err != nil {
		return err
	}
	tab, stopBrowser, err := browser.Start(ctx)
	if err != nil {
		return err
	}
	defer stopBrowser()
	if err := e.pages(tab, out); err != nil {
		return err
	}
	return e.commands(tab, out)
}

func (e *example) start(ctx context.Context) error {
	e.process = exec.CommandContext(ctx, e.binary, "demo", "--dir", e.dir, "--listen", "127.0.0.1:7650")
	e.process.Stderr = os.Stderr
	e.process.Env = append(os.Environ(), "USER=kari", "XDG_STATE_HOME="+e.dir+"-state")
	lines, err := e.process.StdoutPipe()
	if err != nil {
		return err
	}
	if err := e.process.Start(); err != nil {
		return fmt.Errorf("start %s: %w; make build builds it", e.binary, err)
	}
	scanner := bufio.NewScanner(lines)
	for scanner.Scan() {
		if link := strings.TrimSpace(scanner.Text()); strings.Contains(link, "/sign-in#") {
			e.link = link
			break
		}
	}
	go func() { _, _ = io.Copy(io.Discard, lines) }()
	at, err := url.Parse(e.link)
	if err != nil || e.link == "" {
		return fmt.Errorf("the example did not start")
	}
	e.server = at.Scheme + "://" + at.Host
	return nil
}

func (e *example) stop() {
	_ = e.process.Process.Signal(syscall.SIGTERM)
	_ = e.process.Wait()
}

func (e *example) client() (*client.Client, error) {
	token, err := os.ReadFile(filepath.Join(e.dir, "data", "token"))
	return client.New(e.server, strings.TrimSpace(string(token)), "kari"), err
}

// wait waits until the table of the day is made and the duty officer is asked, which
// come last.
func (e *example) wait(ctx context.Context) error {
	c, err := e.client()
	if err != nil {
		return err
	}
	for {
		page, err := c.Runs(ctx, client.RunsFilter{Workflow: "basin-daily"})
		waits, err2 := c.Waits(ctx, "")
		asked := slices.ContainsFunc(waits, func(w client.Wait) bool { return w.Question != nil })
		if err == nil && err2 == nil && asked && len(page.Runs) > 0 && page.Runs[0].State == "succeeded" {
			return backfill(ctx, c)
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(200 * time.Millisecond):
		}
	}
}

// retried is the newest hour whose file was late, so that collect was tried twice.
func (e *example) retried(ctx context.Context) (string, error) {
	c, err := e.client()
	if err != nil {
		return "", err
	}
	page, err := c.Runs(ctx, client.RunsFilter{Workflow: "gauge-hourly"})
	if err != nil {
		return "", err
	}
	for _, r := range page.Runs {
		run, err := c.Run(ctx, r.ID)
		if err != nil {
			return "", err
		}
		if len(run.Tasks[0].Attempts) > 1 {
			return r.ID, nil
		}
	}
	return "gauge-hourly:1", nil
}

func (e *example) pages(tab context.Context, out string) error {
	retried, err := e.retried(tab)
	if err != nil {
		return err
	}
	if err := chromedp.Do(tab, chromedp.EmulateViewport(browser.Width, browser.Height), chromedp.Navigate(e.server+"/sign-in")); err != nil {
		return err
	}
	if err := waitFor(tab, "Sign in"); err != nil {
		return err
	}
	if err := chromedp.Do(tab, chromedp.Navigate("about:blank"), chromedp.Navigate(e.link)); err != nil {
		return err
	}
	for _, page := range []struct{ file, theme, path, ready string }{
		{"watch.png", "dark", "/", "mast-watch"},
		{"failure.png", "dark", "/failures/1", "the whole log"},
		{"workflows.png", "light", "/workflows", "mast-watch"},
		{"workflow.png", "dark", "/workflows/gauge-hourly?ribbon=aligned", "gauge-hourly:24"},
		{"compare.png", "light", "/compare?a=recalibrate:1&b=recalibrate:2", "They part at"},
		{"run.png", "dark", "/runs/" + retried + "?task=split", "readings of"},
		{"run-time.png", "dark", "/runs/" + retried + "?view=time&task=collect&attempt=1", "asked it to send again"},
		{"map.png", "dark", "/map", "crew-call"},
		{"workers.png", "light", "/workers", "What workflows used"},
		{"upcoming.png", "light", "/upcoming", "mast-watch"},
		{"backfill.png", "dark", "/backfills/1", "Retry failed"},
		{"run-question.png", "dark", "/runs/storm-watch:1", "Publish a storm warning"},
		{"events.png", "light", "/events", "storm-watch:1"},
		{"datasets.png", "dark", "/datasets", "readings/clean"},
	} {
		if page.path == "/" {
			if err := waitFor(tab, "Due next"); err != nil {
				return err
			}
		}
		if _, err := chromedp.Run(tab, chromedp.Evaluate[any](fmt.Sprintf("localStorage.setItem('lantern-theme', %q)", page.theme))); err != nil {
			return err
		}
		if err := chromedp.Do(tab, chromedp.Navigate(e.server+page.path)); err != nil {
			return err
		}
		if err := shoot(tab, filepath.Join(out, page.file), page.ready); err != nil {
			return err
		}
	}
	return nil
}

func waitFor(tab context.Context, text string) error {
	ctx, stop := context.WithTimeout(tab, 15*time.Second)
	defer stop()
	_, err := chromedp.Run(ctx, chromedp.Poll[bool](fmt.Sprintf("document.body.innerText.replace(/\\s+/g, ' ').includes(%q)", text)))
	if err != nil {
		return fmt.Errorf("the page does not show %q: %w", text, err)
	}
	return nil
}

func shoot(tab context.Context, file, ready string) error {
	if err := waitFor(tab, ready); err != nil {
		return fmt.Errorf("%s: %w", file, err)
	}
	time.Sleep(600 * time.Millisecond) // the graph moves into its place
	picture, err := chromedp.Run(tab, chromedp.CaptureScreenshot())
	if err != nil {
		return err
	}
	fmt.Println(file)
	return os.WriteFile(file, picture, 0o644)
}

// commands takes the output of the main commands, as a terminal shows it.
func (e *example) commands(tab context.Context, out string) error {
	for _, c := range []struct {
		file string
		args []string
	}{
		{"cli-workflows.png", []string{"workflows"}},
		{"cli-failures.png", []string{"failures", "1"}},
		{"cli-backfill.png", []string{"backfills", "1"}},
		{"cli-compare.png", []string{"compare", "recalibrate:1", "recalibrate:2"}},
		{"cli-check.png", []string{"check", filepath.Join("demo", "testdata", "mistakes.yaml")}},
	} {
		text, err := e.output(c.args)
		if err != nil {
			return err
		}
		page := "data:text/html;charset=utf-8," + url.PathEscape(terminalPage("$ lantern "+strings.Join(c.args, " "), text))
		if err := chromedp.Do(tab, chromedp.Navigate(page)); err != nil {
			return err
		}
		if err := shoot(tab, filepath.Join(out, c.file), "$ lantern"); err != nil {
			return err
		}
	}
	return nil
}

// output runs a command on a terminal of its own (script is in every Debian).
// backfill makes the thirty days before today again, of which one fails.
func backfill(ctx context.Context, c *client.Client) error {
	today := time.Now().UTC()
	made, err := c.Backfill(ctx, client.BackfillRequest{Workflow: "flow-daily", From: today.AddDate(0, 0, -30).Format(time.DateOnly), To: today.AddDate(0, 0, -1).Format(time.DateOnly), AtOnce: 4})
	for err == nil && made.State == "running" {
		time.Sleep(200 * time.Millisecond)
		made, err = c.ShowBackfill(ctx, made.Number)
	}
	return err
}

func (e *example) output(args []string) (string, error) {
	words := []string{"stty", "cols", "150", "rows", "45;", e.binary}
	for _, a := range args {
		words = append(words, "'"+a+"'")
	}
	c := exec.Command("script", "-qc", strings.Join(words, " "), "/dev/null")
	c.Env = append(os.Environ(), "USER=kari", "TERM=screen-256color", "LANTERN_SERVER="+e.server, "XDG_STATE_HOME="+e.dir+"-state")
	var text bytes.Buffer
	c.Stdout = &text
	if err := c.Run(); err != nil && !errors.As(err, new(*exec.ExitError)) { // some of what is shown is an error
		return "", fmt.Errorf("script: %w", err)
	}
	return other.ReplaceAllString(text.String(), ""), nil
}

var (
	colour = regexp.MustCompile(`\x1b\[([0-9;]*)m`)
	other  = regexp.MustCompile(`\x1b\[[?0-9;]*[A-Za-ln-z]|\x1b\][^\x07]*\x07|\r`)
)

// terminalPage is text with the colours of a terminal as a page.
func terminalPage(command, text string) string {
	var body strings.Builder
	open := false
	for len(text) > 0 {
		at := colour.FindStringSubmatchIndex(text)
		if at == nil {
			body.WriteString(html.EscapeString(text))
			break
		}
		body.WriteString(html.EscapeString(text[:at[0]]))
		if open {
			body.WriteString("</span>")
		}
		style := styleOf(text[at[2]:at[3]])
		if open = style != ""; open {
			body.WriteString(`<span style="` + style + `">`)
		}
		text = text[at[1]:]
	}
	return `<body style="margin:0;background:#10151f;color:#e6e6e6;font:13px/1.45 'DejaVu Sans Mono',monospace;padding:18px 22px"><pre style="margin:0;font:inherit"><span style="color:#8793ab">` +
		html.EscapeString(command) + "</span>\n" + body.String() + "</pre></body>"
}

// styleOf is the style of an SGR sequence (ECMA-48, 8.3.117).
func styleOf(codes string) string {
	var style strings.Builder
	parts := strings.Split(codes, ";")
	for i := 0; i < len(parts); i++ {
		switch parts[i] {
		case "1":
			style.WriteString("font-weight:bold;")
		case "38":
			if i+2 < len(parts) && parts[i+1] == "5" {
				style.WriteString("color:" + indexed(parts[i+2]) + ";")
				i += 2
			}
		}
	}
	return style.String()
}

// indexed is a colour of the cube or the greys of a terminal with 256 colours.
func indexed(text string) string {
	var n int
	if _, err := fmt.Sscan(text, &n); err != nil || n < 16 {
		return "inherit"
	}
	if n >= 232 {
		grey := 8 + 10*(n-232)
		return fmt.Sprintf("rgb(%d,%d,%d)", grey, grey, grey)
	}
	steps := [6]int{0, 95, 135, 175, 215, 255}
	n -= 16
	return fmt.Sprintf("rgb(%d,%d,%d)", steps[n/36], steps[n/6%6], steps[n%6])
}
