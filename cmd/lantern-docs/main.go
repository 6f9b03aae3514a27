// Command lantern-docs writes docs/reference anew from what the code says: the
// OpenAPI document and the page of commands. It is run by make reference, in
// the project's folder.
package main

import (
	"bytes"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"wiselantern/cli"
	"wiselantern/service/api"
)

func main() {
	dir := filepath.Join("docs", "reference")
	if len(os.Args) > 1 {
		dir = os.Args[1]
	}
	if err := write(dir); err != nil {
		fmt.Fprintln(os.Stderr, "lantern-docs:", err)
		os.Exit(1)
	}
}

func write(dir string) error {
	description, err := api.Description()
	if err != nil {
		return err
	}
	var indented bytes.Buffer
	if err := json.Indent(&indented, description, "", "  "); err != nil {
		return err
	}
	indented.WriteByte('\n')
	if err := os.WriteFile(filepath.Join(dir, "openapi.json"), indented.Bytes(), 0o644); err != nil {
		return err
	}
	return os.WriteFile(filepath.Join(dir, "commands.md"), []byte(commands()), 0o644)
}

func commands() string {
	var out strings.Builder
	out.WriteString("# Commands\n\nWritten by `make reference` from the commands themselves.\n")
	root := cli.Commands()
	out.WriteString("\nEvery command takes these:\n\n```\n" + root.PersistentFlags().FlagUsages() + "```\n")
	for _, c := range root.Commands() {
		if c.IsAvailableCommand() && c.Name() != "help" && c.Name() != "completion" {
			section(&out, c)
		}
	}
	out.WriteString("\n## Exit codes\n\n0 done · 1 the work failed · 2 the call was wrong · 3 the service could not be reached · 4 not allowed\n")
	return out.String()
}

func section(out *strings.Builder, c *cobra.Command) {
	text := c.Long
	if text == "" {
		text = c.Short + "."
	}
	fmt.Fprintf(out, "\n## %s\n\n%s\n\n```\n%s\n```\n", c.CommandPath(), text, c.UseLine())
	if flags := c.LocalNonPersistentFlags().FlagUsages(); flags != "" {
		fmt.Fprintf(out, "\n```\n%s```\n", flags)
	}
	fmt.Fprintf(out, "\nExamples:\n\n```\n%s\n```\n", c.Example)
}
