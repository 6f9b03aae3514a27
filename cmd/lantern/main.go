// Command lantern is Wise Lantern: the service, its worker, its client and its
// console in one binary.
package main

import (
	"os"

	"wiselantern/cli"
)

func main() { os.Exit(cli.Main(os.Args[1:], os.Stdin, os.Stdout, os.Stderr)) }
