package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"os"
	"time"

	"github.com/spf13/cobra"

	"wiselantern/service/archive"
	"wiselantern/service/doctor"
)

func (a *app) backupCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "backup FILE",
		Short: "Write everything that the service has to a file, while it runs",
		Long: `Write the records, the logs and the parcels of the service to one file (a tar archive,
compressed as Zstandard), each database as it was at one moment. The service goes
on meanwhile. The file is read back before it gets its name; it holds secrets as
the service does, so keep it where others cannot read it. The token is not in it.`,
		Example: `  lantern backup /mnt/safe/lantern-$(date +%F).tar.zst
  lantern restore /mnt/safe/lantern-2026-03-28.tar.zst --data ./lantern-data`,
		Args: cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) (err error) {
			service, err := a.client()
			if err != nil {
				return err
			}
			if _, err := os.Stat(args[0]); err == nil {
				return &usageError{fmt.Errorf("%s is there already; name a new file", args[0])}
			}
			began := time.Now()
			body, err := service.Backup(c.Context())
			if err != nil {
				return err
			}
			defer body.Close()
			part := args[0] + ".part"
			file, err := os.OpenFile(part, os.O_RDWR|os.O_CREATE|os.O_TRUNC, 0o600)
			if err != nil {
				return fmt.Errorf("the backup cannot be written: %w", err)
			}
			defer os.Remove(part) // nothing, once it has its name
			size, err := io.Copy(file, body)
			if err = errors.Join(err, file.Sync()); err != nil {
				file.Close()
				return fmt.Errorf("the backup cannot be written to %s: %w", part, err)
			}
			_, err = file.Seek(0, io.SeekStart)
			var contents archive.Contents
			if err == nil {
				contents, err = archive.Check(file)
			}
			if err = errors.Join(err, file.Close()); err != nil {
				return err
			}
			if err := os.Rename(part, args[0]); err != nil {
				return fmt.Errorf("the backup cannot get its name: %w", err)
			}
			return a.print(contents, func() error {
				_, err := fmt.Fprintf(a.out, "%s has everything as of %s: %s in %s, from %s, in %s\n", args[0], contents.Made.Local().Format("15:04:05"), bytesOf(size), plural(len(contents.Files), "file"), bytesOf(contents.Bytes), length(time.Since(began)))
				return err
			})
		},
	}
}

func (a *app) restoreCommand() *cobra.Command {
	var data string
	c := &cobra.Command{
		Use:   "restore FILE|FOLDER",
		Short: "Make a data folder of a backup",
		Long: `Make a data folder of a backup, or of the folder of copies that serve --copies has
kept, to serve from. The folder must not be there yet, or be
empty; nothing is overwritten. Every file is compared with what was written, and the
databases are checked, before the folder gets its name.

A service on it goes on from the moment of the backup: what was running then is made
again, and windows that came due since are decided as their rules say (missed).`,
		Example: `  lantern restore lantern-2026-03-28.tar.zst --data ./lantern-data
  lantern restore /mnt/safe/copies --data ./lantern-data
  lantern serve --data ./lantern-data`,
		Args: cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			contents, err := restore(c.Context(), args[0], data)
			if err != nil {
				return err
			}
			return a.print(contents, func() error {
				_, err := fmt.Fprintf(a.out, "%s has everything as of %s: %s in %s. Serve from it: lantern serve --data %s\n", data, contents.Made.Local().Format("2006-01-02 15:04:05"), bytesOf(contents.Bytes), plural(len(contents.Files), "file"), data)
				return err
			})
		},
	}
	c.Flags().StringVar(&data, "data", defaultData, "the data folder to make")
	return c
}

// restore makes a data folder of a backup, or of a folder of copies.
func restore(ctx context.Context, from, data string) (archive.Contents, error) {
	if archive.IsCopies(from) {
		slog.SetDefault(slog.New(slog.DiscardHandler)) // the library tells each of its steps
		return archive.RestoreCopies(ctx, from, data)
	}
	file, err := os.Open(from)
	if err != nil {
		return archive.Contents{}, &usageError{fmt.Errorf("the backup cannot be read: %w", err)}
	}
	defer file.Close()
	return archive.Restore(ctx, file, data)
}

func (a *app) doctorCommand() *cobra.Command {
	var data string
	c := &cobra.Command{
		Use:   "doctor",
		Short: "Look the data folder and the machine over",
		Long: `Look the data folder and the machine over: whether it can be written to and has room,
whether the databases and parcels are sound, the clock, the limits. Nothing is
changed, and a service may run meanwhile. The exit code is 1 if something is wrong.`,
		Example: `  lantern doctor
  lantern doctor --data /var/lib/lantern -o json`,
		RunE: func(c *cobra.Command, _ []string) error {
			list := doctor.Examine(c.Context(), data)
			err := a.print(map[string]any{"findings": list}, func() error { a.findings(list); return nil })
			for _, f := range list {
				if err == nil && f.State == doctor.Wrong {
					return &cameOutBadly{exitFailed}
				}
			}
			return err
		},
	}
	c.Flags().StringVar(&data, "data", defaultData, "the data folder")
	return c
}

func (a *app) findings(list []doctor.Finding) {
	p := painter(a.out)
	signs := map[string]string{doctor.Well: p.mark("succeeded", "●"), doctor.Warning: p.mark("running", "◇"), doctor.Wrong: p.mark("failed", "✕")}
	for _, f := range list {
		fmt.Fprintf(a.out, "%s %s %s\n", signs[f.State], p.strong(fmt.Sprintf("%-11s", f.Of)), f.Found)
		if f.Do != "" {
			fmt.Fprintf(a.out, "  %-11s %s\n", "", p.dim(f.Do))
		}
	}
}
