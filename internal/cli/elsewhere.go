//go:build !linux

package cli

import (
	"context"
	"errors"
	"fmt"

	"bagaglio/api"
	"bagaglio/core/plan"

	"github.com/spf13/cobra"
)

// serviceCommands are none: the service runs on Linux.
func (a *app) serviceCommands() []*cobra.Command { return nil }

func ignoreFileLimit() {}

// alive takes every process to be there, so that nothing of it is cleared away.
func alive(int) bool { return true }

func (a *app) serveHere(_ context.Context, p plan.Place, _ api.NewExport) error {
	return fmt.Errorf("serving %s from this computer: %w on this system: have a service serve it", p, errors.ErrUnsupported)
}
