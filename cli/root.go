// Package cli is the commands. They reach a service only through client; serve
// and demo start one in this process.
package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/signal"
	"os/user"
	"path/filepath"
	"runtime/debug"
	"strings"
	"syscall"

	"github.com/spf13/cobra"

	"wiselantern/client"
	"wiselantern/core/definition"
)

// The exit codes.
const (
	exitDone        = 0
	exitFailed      = 1 // the work failed
	exitWrong       = 2 // the call was wrong
	exitUnreachable = 3
	exitDenied      = 4
)

// app is what all commands share.
type app struct {
	in       io.Reader
	out, err io.Writer

	server, tokenFile, format string
}

// Main runs one command and returns its exit code.
func Main(args []string, in io.Reader, out, errOut io.Writer) int {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	a := &app{in: in, out: out, err: errOut}
	root := a.root()
	root.SetArgs(args)
	root.SetIn(in)
	root.SetOut(out)
	root.SetErr(errOut)
	command, err := root.ExecuteContextC(ctx)
	if err == nil {
		return exitDone
	}
	var badly *cameOutBadly
	if errors.As(err, &badly) {
		return badly.code
	}
	code := exitCode(err)
	fmt.Fprintf(errOut, "%s: %v\n", command.CommandPath(), err)
	if code == exitWrong && errors.As(err, new(*usageError)) {
		fmt.Fprintf(errOut, "See %s --help.\n", command.CommandPath())
	}
	return code
}

// cameOutBadly says that the command was carried out, and what came out of it is
// bad and was told already.
type cameOutBadly struct{ code int }

func (c *cameOutBadly) Error() string { return "" }

// usageError says that the command was not written as it should be.
type usageError struct{ error }

func exitCode(err error) int {
	var problem *client.Problem
	var mistakes definition.Problems
	switch {
	case errors.As(err, new(*client.Unreachable)):
		return exitUnreachable
	case errors.As(err, &problem):
		switch {
		case problem.Status == 401 || problem.Status == 403:
			return exitDenied
		case problem.Status < 500:
			return exitWrong
		}
	case errors.As(err, &mistakes), errors.As(err, new(*usageError)):
		return exitWrong
	case strings.HasPrefix(err.Error(), "unknown command"), strings.HasPrefix(err.Error(), "if any flags in the group"): // cobra has no types for them
		return exitWrong
	case errors.Is(err, context.Canceled):
		return 128 + int(syscall.SIGINT)
	}
	return exitFailed
}

// Version is the version of this binary.
func Version() string {
	if info, ok := debug.ReadBuildInfo(); ok && info.Main.Version != "" && info.Main.Version != "(devel)" {
		return info.Main.Version
	}
	return "development"
}

// Commands is the tree of commands, for the reference.
func Commands() *cobra.Command {
	return (&app{in: strings.NewReader(""), out: io.Discard, err: io.Discard}).root()
}

func (a *app) root() *cobra.Command {
	root := &cobra.Command{
		Use:   "lantern",
		Short: "Keep watch over data pipelines",
		Long: `Wise Lantern keeps watch over data pipelines: write a workflow down as a graph
of tasks, apply it to the service, and the service runs it when it is due or
when you say so, and shows what is lit, what is out, and why.`,
		Example: `  lantern demo                          # the service with an example project
  lantern serve                         # the service, on ./lantern-data
  lantern apply .                       # make the service match this project
  lantern start gauge-hourly --follow   # a run now, watched to its end`,
		SilenceErrors: true, SilenceUsage: true,
		Version: Version(),
		PersistentPreRunE: func(c *cobra.Command, _ []string) error {
			switch a.format {
			case "table", "json", "yaml":
				return nil
			}
			return &usageError{fmt.Errorf("-o %s: write table, json or yaml", a.format)}
		},
	}
	root.SetFlagErrorFunc(func(_ *cobra.Command, err error) error { return &usageError{err} })
	flags := root.PersistentFlags()
	server := os.Getenv("LANTERN_SERVER")
	if server == "" {
		server = "http://" + defaultListen
	}
	flags.StringVar(&a.server, "server", server, "address of the service (or LANTERN_SERVER)")
	flags.StringVar(&a.tokenFile, "token-file", "", "file with the token (or the token itself in LANTERN_TOKEN)")
	flags.StringVarP(&a.format, "output", "o", "table", "table, json or yaml")
	root.AddGroup(&cobra.Group{ID: "service", Title: "The service:"}, &cobra.Group{ID: "define", Title: "Defining:"},
		&cobra.Group{ID: "look", Title: "Looking:"}, &cobra.Group{ID: "act", Title: "Acting:"})
	for group, commands := range map[string][]*cobra.Command{
		"service": {a.serveCommand(), a.demoCommand(), a.workerCommand(), a.consoleCommand(), a.backupCommand(), a.restoreCommand(), a.doctorCommand()},
		"define":  {a.checkCommand(), a.outlineCommand(), a.schemaCommand(), a.tryCommand(), a.applyCommand(), a.removeCommand(), a.hookCommand(), a.connectionCommand()},
		"look":    {a.workflowsCommand(), a.runsCommand(), a.showCommand(), a.watchCommand(), a.logsCommand(), a.upcomingCommand(), a.watermarksCommand(), a.capacityCommand(), a.failuresCommand(), a.compareCommand(), a.reportCommand(), a.workersCommand(), a.usageCommand(), a.waitsCommand(), a.eventsCommand(), a.datasetsCommand()},
		"act":     {a.startCommand(), a.backfillCommand(), a.backfillsCommand(), a.stopCommand(), a.rerunCommand(), a.releaseCommand(), a.approveCommand(), a.eventCommand(), a.pauseCommand(), a.resumeCommand()},
	} {
		for _, c := range commands {
			c.GroupID = group
			c.Args = usage(c.Args)
			root.AddCommand(c)
		}
	}
	return root
}

// usage makes what cobra says about arguments a mistake of the call.
func usage(check cobra.PositionalArgs) cobra.PositionalArgs {
	if check == nil {
		check = cobra.NoArgs
	}
	return func(c *cobra.Command, args []string) error {
		if err := check(c, args); err != nil {
			return &usageError{fmt.Errorf("%w; write it as: %s", err, c.UseLine())}
		}
		return nil
	}
}

// client is the client of the service that the options name.
func (a *app) client() (*client.Client, error) {
	token, err := a.token()
	if err != nil {
		return nil, err
	}
	return client.New(a.server, token, personName()), nil
}

// token looks in --token-file, LANTERN_TOKEN, the note that a service on this
// machine left, and ./lantern-data.
func (a *app) token() (string, error) {
	if a.tokenFile != "" {
		text, err := os.ReadFile(a.tokenFile)
		if err != nil {
			return "", &usageError{fmt.Errorf("the token cannot be read: %w", err)}
		}
		return strings.TrimSpace(string(text)), nil
	}
	if token := os.Getenv("LANTERN_TOKEN"); token != "" {
		return token, nil
	}
	for _, name := range []string{readNote(a.server), filepath.Join(defaultData, "token")} {
		if text, err := os.ReadFile(name); err == nil {
			return strings.TrimSpace(string(text)), nil
		}
	}
	return "", nil // the service says what it thinks of that
}

func personName() string {
	if name := os.Getenv("USER"); name != "" {
		return name
	}
	if u, err := user.Current(); err == nil {
		return u.Username
	}
	return "somebody"
}

// noteFile is where a service leaves a note, for commands of the same user, of
// where its token is.
func noteFile(server string) string {
	dir := os.Getenv("XDG_STATE_HOME")
	if dir == "" {
		home, err := os.UserHomeDir()
		if err != nil {
			return ""
		}
		dir = filepath.Join(home, ".local", "state")
	}
	name := strings.NewReplacer("http://", "", "https://", "", ":", "_", "/", "_").Replace(strings.TrimRight(server, "/"))
	return filepath.Join(dir, "wise-lantern", name)
}

func readNote(server string) string {
	text, err := os.ReadFile(noteFile(server))
	if err != nil {
		return ""
	}
	return strings.TrimSpace(string(text))
}

// leaveNote is a convenience: when it fails, --token-file still works.
func leaveNote(server, tokenFile string) {
	name := noteFile(server)
	if name == "" || os.MkdirAll(filepath.Dir(name), 0o700) != nil {
		return
	}
	_ = os.WriteFile(name, []byte(tokenFile+"\n"), 0o600)
}
