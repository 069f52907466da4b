package machines

import (
	"context"
	"errors"
	"fmt"
	"path"
	"strings"

	"bagaglio/core/host"
	"bagaglio/core/machine"
	"bagaglio/internal/records"
)

// Add makes a machine known to a host that has its disks already. The format of its definition goes by the name of the file that it was in.
func (m *Machines) Add(ctx context.Context, on, file string, text []byte) (Machine, error) {
	d, err := machine.Parse(file, text)
	if err != nil {
		return Machine{}, fmt.Errorf("%w: %w", records.ErrInvalid, err)
	}
	is, err := machine.Describe(d.Format, text)
	if err != nil {
		return Machine{}, fmt.Errorf("%w: %w", records.ErrInvalid, err)
	}
	for _, disk := range is.Disks {
		if disk.File != "" && !path.IsAbs(disk.File) {
			return Machine{}, fmt.Errorf(
				"%w: %s names the disk %s as seen from its own folder: name it with its whole path on %s",
				records.ErrInvalid,
				file,
				disk.File,
				on,
			)
		}
	}
	all, _, err := m.List(ctx, on)
	if err != nil {
		return Machine{}, err
	}
	for _, other := range all {
		if other.Name == is.Name || is.UUID != "" && strings.EqualFold(other.UUID, is.UUID) {
			return Machine{}, fmt.Errorf("%w: %s has a machine of that name or UUID already: %s", records.ErrState, on, other.Name)
		}
	}
	for _, disk := range is.Disks {
		if err := isFree(all, disk); err != nil {
			return Machine{}, err
		}
	}
	format, err := m.Format(ctx, on)
	if err != nil {
		return Machine{}, err
	}
	if text, err = machine.Become(text, d.Format, format, is); err != nil {
		return Machine{}, fmt.Errorf("%w: %w", records.ErrInvalid, err)
	}
	made, err := m.Guests(on).Define(ctx, text)
	if errors.Is(err, host.ErrRefused) {
		err = fmt.Errorf("%w: %w", records.ErrState, err)
	}
	if err != nil {
		return Machine{}, err
	}
	return m.Show(ctx, on, made.Name)
}

// Forget takes a machine that is off from the list of its host. Its disks stay.
func (m *Machines) Forget(ctx context.Context, on, name string) error {
	x, err := m.Show(ctx, on, name)
	if err != nil {
		return err
	}
	if x.State != host.Off {
		return fmt.Errorf("%w: machine %s:%s is %s: only one that is off is forgotten", records.ErrState, on, name, x.State)
	}
	return m.Guests(on).Forget(ctx, x.Machine)
}
