package disks

import (
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"

	"bagaglio/core/carry"
	"bagaglio/core/fingerprint"
	"bagaglio/core/inspect"
	"bagaglio/core/plan"
	"bagaglio/core/storage"
	"bagaglio/core/transfer"
)

// makeSums puts the checksums of the pieces of a disk beside them, in the form that sha256sum(1) writes and checks, so that whoever joins
// the pieces needs nothing of ours.
func (w *work) makeSums(ctx context.Context, folder storage.Folder) error {
	if w.disk.After.Format != "raw" || w.disk.After.Layout != "pieces" {
		return nil
	}
	names := slices.Sorted(slices.Values(w.state.Files))
	names = slices.DeleteFunc(names, carry.IsCompanion)
	var text strings.Builder
	var meter transfer.Meter
	err := w.report.Run(plan.StepSums, &meter, nil, func() error {
		for _, name := range names {
			sum, err := storage.SHA256(ctx, storage.Fresh(folder), name, func(n int64) { meter.Read.Add(n) })
			if err != nil {
				return destination(fmt.Errorf("taking the SHA-256 of %s: %w", name, err))
			}
			_, _ = fmt.Fprintf(&text, "%s  %s\n", hex.EncodeToString(sum[:]), path.Base(name)) // a strings.Builder takes everything
		}
		return nil
	})
	if err != nil {
		return err
	}
	sums := inspect.SumsName(names[0])
	if err := storage.WriteFile(folder, sums, []byte(text.String())); err != nil {
		return destination(err)
	}
	if !slices.Contains(w.state.Files, sums) {
		w.state.Files = append([]string{sums}, w.state.Files...)
	}
	return nil
}

// companions are the files that may lie beside a disk and only say something of it.
func companions(disk string) []string {
	return []string{fingerprint.TagName(disk), inspect.SumsName(disk)}
}

// maxSums bounds a file with checksums, in bytes.
const maxSums = 4 << 20

// sumsMoved puts the checksums of pieces that move where they will lie, under their new names.
func (w *work) sumsMoved() error {
	file, err := w.Ends.Source.Open(inspect.SumsName(w.disk.Before.Place.Path))
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	defer file.Close()
	size, err := file.Size()
	if err != nil || size > maxSums {
		return err // no checksums of ours
	}
	b := make([]byte, size)
	if n, err := file.ReadAt(b, 0); int64(n) < size {
		return err
	}
	names := w.disk.Names()
	var text strings.Builder
	for line := range strings.Lines(string(b)) {
		sum, name, _ := strings.Cut(strings.TrimRight(line, "\n"), "  ")
		if to, ok := names[name]; ok {
			name = to
		}
		_, _ = fmt.Fprintf(&text, "%s  %s\n", sum, name) // a strings.Builder takes everything
	}
	return storage.WriteFile(w.Ends.Destination, inspect.SumsName(w.disk.After.Place.Path), []byte(text.String()))
}
