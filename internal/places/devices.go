package places

import (
	"context"
	"fmt"

	"bagaglio/core/storage/blocks"
	"bagaglio/internal/records"
)

// Devices are the physical disks of a host, empty for all hosts that can be asked.
func (s *Places) Devices(ctx context.Context, on string) ([]blocks.Seen, error) {
	if on != "" {
		if _, err := s.Host(ctx, on); err != nil {
			return nil, err
		}
	}
	if on != "" && on != LocalHost {
		return nil, fmt.Errorf("%w: disks of another computer are not read yet: look at them there", records.ErrInvalid)
	}
	all, err := blocks.Open().Devices()
	for i := range all {
		all[i].Host = LocalHost
	}
	return all, err
}
