// Command manual writes the pages of the manual for packages: manual FOLDER VERSION SECONDS, which are those of the day that they are of.
package main

import (
	"fmt"
	"os"
	"strconv"
	"time"

	_ "bagaglio/core/disk/all"
	_ "bagaglio/core/inspect/all"
	_ "bagaglio/core/machine/all"
	"bagaglio/internal/cli"
)

func main() {
	if err := run(os.Args[1:]); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

func run(args []string) error {
	if len(args) != 3 {
		return fmt.Errorf("manual FOLDER VERSION SECONDS")
	}
	seconds, err := strconv.ParseInt(args[2], 10, 64)
	if err != nil {
		return err
	}
	return cli.Manual(args[1], args[0], time.Unix(seconds, 0).UTC())
}
