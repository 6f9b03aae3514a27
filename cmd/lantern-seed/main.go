// Command lantern-seed makes a data folder with a long history, for measurements:
//
//	go run ./cmd/lantern-seed FOLDER --workflows 500 --tasks 1000000
//
// The history is invented and the same for the same numbers: hourly runs of river
// gauges, of ten tasks each, one in fifty of which failed.
package main

import (
	"context"
	"flag"
	"fmt"
	"os"

	"wiselantern/internal/seed"
)

func main() {
	o := seed.Options{}
	flag.IntVar(&o.Workflows, "workflows", 500, "how many workflows")
	flag.IntVar(&o.Tasks, "tasks", 1_000_000, "how many recorded tasks, all in all")
	flag.IntVar(&o.Long, "long", 10_000, "runs of the one workflow with the longest logbook")
	flag.Usage = func() {
		fmt.Fprintln(os.Stderr, "lantern-seed [--workflows N] [--tasks N] [--long N] FOLDER")
		flag.PrintDefaults()
	}
	flag.Parse()
	if flag.NArg() != 1 {
		flag.Usage()
		os.Exit(2)
	}
	if err := seed.Fill(context.Background(), flag.Arg(0), o); err != nil {
		fmt.Fprintln(os.Stderr, "lantern-seed:", err)
		os.Exit(1)
	}
}
