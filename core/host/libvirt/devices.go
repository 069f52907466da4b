package libvirt

import (
	"context"
	"encoding/xml"
	"errors"
	"fmt"
	"slices"

	"bagaglio/core/host"
	"bagaglio/core/machine"
	domainxml "bagaglio/core/machine/domain"

	"github.com/digitalocean/go-libvirt"
)

// Attach gives a machine a disk, in its definition and, where it runs, at once.
func (h *Host) Attach(ctx context.Context, m host.Machine, d machine.Disk) error {
	return h.device(ctx, m, func(x libvirt.Domain, is machine.Machine, flags uint32) error {
		text, err := domainxml.Device(d, slices.Concat(is.Disks, is.Drives))
		if err != nil {
			return refused("%v", err)
		}
		return h.l.DomainAttachDeviceFlags(x, string(text), flags)
	})
}

// Detach takes one away.
func (h *Host) Detach(ctx context.Context, m host.Machine, slot string) error {
	return h.device(ctx, m, func(x libvirt.Domain, is machine.Machine, flags uint32) error {
		i := slices.IndexFunc(is.Disks, func(d machine.Disk) bool { return d.Slot == slot })
		if i < 0 {
			return refused("it has no disk %s", slot)
		}
		text, err := domainxml.Device(is.Disks[i], nil)
		if err != nil {
			return refused("%v", err)
		}
		return h.l.DomainDetachDeviceFlags(x, string(text), flags)
	})
}

// device changes the disks of a machine as it is stored, and as it runs.
func (h *Host) device(ctx context.Context, m host.Machine, do func(libvirt.Domain, machine.Machine, uint32) error) error {
	x, err := domain(m)
	if err != nil {
		return err
	}
	return h.call(ctx, func() error {
		now, err := h.machine(x)
		if err != nil {
			return err
		}
		is, err := machine.Describe(now.Format, now.Definition)
		if err != nil {
			return refused("%v", err)
		}
		flags := libvirt.DomainDeviceModifyConfig
		if now.State == host.Running || now.State == host.Suspended {
			flags |= libvirt.DomainDeviceModifyLive
		}
		return do(x, is, uint32(flags))
	})
}

// refused is an error as the daemon gives it.
func refused(format string, args ...any) error {
	return libvirt.Error{Code: uint32(libvirt.ErrOperationInvalid), Message: fmt.Sprintf(format, args...)}
}

// Suspend halts a machine: the emulator writes what it holds of its disks before it says so.
func (h *Host) Suspend(ctx context.Context, m host.Machine) error {
	return h.act(ctx, m, []host.State{host.Suspended}, h.l.DomainSuspend)
}

// Resume lets it go on.
func (h *Host) Resume(ctx context.Context, m host.Machine) error {
	return h.act(ctx, m, []host.State{host.Running}, h.l.DomainResume)
}

// folders are the kinds of storage pools whose volumes are files in a folder.
var folders = []string{"dir", "fs", "netfs"}

// Pools are the storage pools in folders that the daemon has active. One without a driver for them has none.
func (h *Host) Pools(ctx context.Context) (all []host.Pool, err error) {
	err = h.call(ctx, func() error {
		pools, _, err := h.l.ConnectListAllStoragePools(1, libvirt.ConnectListStoragePoolsActive)
		for _, p := range pools {
			text, err := h.l.StoragePoolGetXMLDesc(p, 0)
			if libvirt.IsNotFound(err) { // it went meanwhile
				continue
			}
			var is struct {
				Kind   string `xml:"type,attr"`
				Folder string `xml:"target>path"`
			}
			if err == nil {
				err = xml.Unmarshal([]byte(text), &is)
			}
			if err != nil {
				return err
			}
			if slices.Contains(folders, is.Kind) {
				all = append(all, host.Pool{Name: p.Name, Folder: is.Folder})
			}
		}
		return err
	})
	if errors.Is(err, host.ErrRefused) {
		return nil, fmt.Errorf("%w: %w", errors.ErrUnsupported, err)
	}
	return all, err
}
