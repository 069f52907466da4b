package libvirt

import (
	"context"
	"encoding/xml"
	"errors"
	"fmt"
	"math"
	"slices"

	"bagaglio/core/host"
	"bagaglio/core/machine"

	"github.com/digitalocean/go-libvirt"
)

// StartWithHost has a machine started whenever the daemon starts, or not any more.
func (h *Host) StartWithHost(ctx context.Context, m host.Machine, yes bool) error {
	d, err := domain(m)
	if err != nil {
		return err
	}
	with := int32(0)
	if yes {
		with = 1
	}
	return h.call(ctx, func() error { return h.l.DomainSetAutostart(d, with) })
}

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

// Look has the storage pools of the daemon's own looked through. One without a driver for them has none.
func (h *Host) Look(ctx context.Context) error {
	err := h.call(ctx, func() error {
		pools, _, err := h.l.ConnectListAllStoragePools(1, libvirt.ConnectListStoragePoolsActive)
		for _, p := range pools {
			if refreshErr := h.l.StoragePoolRefresh(p, 0); refreshErr != nil && !libvirt.IsNotFound(refreshErr) {
				err = errors.Join(err, fmt.Errorf("looking through its pool %s: %w", p.Name, refreshErr))
			}
		}
		return err
	})
	if errors.Is(err, host.ErrRefused) { // what it does not find in them is no reason to go without the machine
		return nil
	}
	return err
}

// capabilities are what is read of what the daemon says of itself.
type capabilities struct {
	Guests []struct {
		Arch struct {
			Name     string   `xml:"name,attr"`
			Machines []string `xml:"machine"`
		} `xml:"arch"`
	} `xml:"guest"`
}

// abilities are what is read of what it says of machines.
type abilities struct {
	Processors struct {
		Max int `xml:"max,attr"`
	} `xml:"vcpu"`
	OS    []enum `xml:"os>enum"`
	Disks []enum `xml:"devices>disk>enum"`
}

type enum struct {
	Name   string   `xml:"name,attr"`
	Values []string `xml:"value"`
}

// values are those of an enumeration.
func values(all []enum, name string) []string {
	for _, e := range all {
		if e.Name == name {
			return e.Values
		}
	}
	return nil
}

// Limits are what the daemon takes of machines that run by software emulation, which it has always.
func (h *Host) Limits(ctx context.Context) (l machine.Limits, err error) {
	var is capabilities
	var can abilities
	err = h.call(ctx, func() error {
		text, err := h.l.ConnectGetCapabilities()
		if err == nil {
			err = xml.Unmarshal([]byte(text), &is)
		}
		if err != nil {
			return err
		}
		known, err := h.l.ConnectGetDomainCapabilities(nil, libvirt.OptString{arch}, nil, libvirt.OptString{"qemu"}, 0)
		if err == nil {
			err = xml.Unmarshal([]byte(known), &can)
		}
		if err != nil {
			return err
		}
		_, kib, _, _, _, _, _, _, err := h.l.NodeGetInfo()
		l.Memory = int64(min(kib, math.MaxInt64>>10)) << 10
		return err
	})
	for _, g := range is.Guests {
		if g.Arch.Name == arch {
			l.Chipsets = append(l.Chipsets, g.Arch.Machines...)
		}
	}
	for _, name := range values(can.OS, "firmware") { // another firmware than that of the emulator has to be installed
		l.Firmware = append(l.Firmware, map[string]string{"bios": machine.BIOS, "efi": machine.UEFI}[name])
	}
	if !slices.Contains(l.Firmware, machine.BIOS) {
		l.Firmware = append(l.Firmware, machine.BIOS)
	}
	l.Buses, l.Processors = values(can.Disks, "bus"), can.Processors.Max
	return l, err
}

// arch is that of the machines that are made here.
const arch = "x86_64"

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
