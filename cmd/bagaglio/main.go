// Command bagaglio is the service and its client.
package main

import (
	"os"

	_ "bagaglio/core/disk/all"
	_ "bagaglio/core/inspect/all"
	_ "bagaglio/core/machine/all"
	"bagaglio/internal/cli"
)

// version is set when the binary is built.
var version = "development"

func main() { os.Exit(cli.Run(version, os.Args[1:], os.Stdin, os.Stdout, os.Stderr)) }
