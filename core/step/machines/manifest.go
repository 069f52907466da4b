package machines

import (
	"context"
	"fmt"

	"bagaglio/core/plan"
)

// Sealed is a place of a machine whose files have a manifest.
type Sealed interface {
	// Compare compares each with it, and returns how many files and bytes that were.
	Compare(ctx context.Context) (files int, bytes int64, err error)
}

// manifest compares the files of a package with its manifest.
func (w *work) manifest(ctx context.Context) error {
	s, ok := w.Ends.From.(Sealed)
	if !ok {
		return fmt.Errorf("%s has no manifest", w.m.Here())
	}
	files, n, err := s.Compare(ctx)
	if err != nil {
		return err
	}
	w.proof.BytesRead += n
	w.evidence("%d file(s) of the package, %s, are what its manifest says", files, plan.Bytes(n))
	return nil
}
