package libvirt

import (
	"context"
	"errors"
	"fmt"

	"bagaglio/core/host"
)

// Networks are those that the daemon defines. One without a driver for them tells of none: bridges are the system's.
func (h *Host) Networks(ctx context.Context) (names []string, err error) {
	err = h.call(ctx, func() error {
		all, _, err := h.l.ConnectListAllNetworks(1, 0)
		for _, n := range all {
			names = append(names, n.Name)
		}
		return err
	})
	if errors.Is(err, host.ErrRefused) {
		return nil, fmt.Errorf("%w: %w", errors.ErrUnsupported, err)
	}
	return names, err
}

// Volume returns the path of the file of a volume.
func (h *Host) Volume(ctx context.Context, pool, volume string) (path string, err error) {
	err = h.call(ctx, func() error {
		p, err := h.l.StoragePoolLookupByName(pool)
		if err != nil {
			return err
		}
		v, err := h.l.StorageVolLookupByName(p, volume)
		if err == nil {
			path, err = h.l.StorageVolGetPath(v)
		}
		return err
	})
	if errors.Is(err, host.ErrNoMachine) { // which is what is said of anything that is not there
		err = fmt.Errorf("%w: there is no volume %s in its pool %s", host.ErrRefused, volume, pool)
	}
	return path, err
}
