package places

import (
	"cmp"
	"context"
	"errors"
	"fmt"

	"bagaglio/core/plan"
	"bagaglio/core/storage"
	"bagaglio/core/storage/blocks"
)

// Devices are the physical disks of a host, empty for the service's own computer.
func (s *Places) Devices(ctx context.Context, on string) ([]blocks.Seen, error) {
	on = cmp.Or(on, LocalHost)
	folder, err := s.Folder(ctx, plan.DevicesOf(on))
	if err != nil {
		return nil, err
	}
	f, ok := storage.As[interface{ Devices() ([]blocks.Seen, error) }](folder)
	if !ok {
		return nil, fmt.Errorf("%w: the disks of %s are not told", errors.ErrUnsupported, on)
	}
	all, err := f.Devices()
	for i := range all {
		all[i].Host = on
	}
	return all, err
}
