//go:build profile

package main

import (
	"fmt"
	"os"
	"os/signal"
	"path/filepath"
	"runtime/pprof"
	"syscall"
)

// In a binary built with -tags profile, as make profile builds it, SIGUSR1 begins a
// profile of the processor time and SIGUSR2 writes it to LANTERN_PROFILES.
func init() {
	dir := os.Getenv("LANTERN_PROFILES")
	if dir == "" || len(os.Args) < 2 || os.Args[1] != "serve" && os.Args[1] != "worker" {
		return
	}
	signals := make(chan os.Signal, 1)
	signal.Notify(signals, syscall.SIGUSR1, syscall.SIGUSR2)
	go func() {
		var file *os.File
		for s := range signals {
			if s == syscall.SIGUSR2 {
				pprof.StopCPUProfile()
				file.Close()
				continue
			}
			var err error
			if file, err = os.Create(filepath.Join(dir, os.Args[1]+".pprof")); err == nil {
				err = pprof.StartCPUProfile(file)
			}
			if err != nil {
				fmt.Fprintln(os.Stderr, "no profile:", err)
			}
		}
	}()
}
