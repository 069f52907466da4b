package machines

import (
	"context"
	"errors"
	"fmt"

	"bagaglio/core/storage"
)

// What a program on a computer is told when a machine takes its place, and when it does not after all.
const (
	leave    = "leave"
	comeBack = "come-back"
)

// teller is a computer with disks, of which programs can be told something of one.
type teller interface {
	Tell(ctx context.Context, name, program, what string) error
}

// leave has a program on the computer that the machine takes the place of told, so that it is off the network before that is started.
func (w *work) leave(ctx context.Context) error {
	if err := w.tellComputer(ctx, leave); err != nil {
		return err
	}
	w.evidence("%s was told on its computer that a machine takes its place", w.m.Tell)
	return nil
}

// comeBack has it told that the machine does not.
func (w *work) comeBack(ctx context.Context) error { return w.tellComputer(ctx, comeBack) }

func (w *work) tellComputer(ctx context.Context, what string) error {
	on, ok := storage.As[teller](w.Ends.Pools[w.m.From.Pool])
	if !ok {
		return fmt.Errorf("telling %s on the computer of %s: %w", w.m.Tell, w.m.From, errors.ErrUnsupported)
	}
	return on.Tell(ctx, w.m.From.Path, w.m.Tell, what)
}
