//go:build !linux

package cli

import "github.com/spf13/cobra"

// runsPorter: a porter runs on Linux.
func (a *app) runsPorter(*cobra.Command) {}
