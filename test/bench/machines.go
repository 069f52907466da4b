package main

import (
	"context"
	"errors"
	"fmt"
	"net"
	"time"

	"bagaglio/api"
	"bagaglio/core/host"
	_ "bagaglio/core/host/libvirt"
	"bagaglio/internal/guestd"
)

// ofAHost is how many machines a host has that are listed, and listings how often.
const ofAHost, listings = 100, 9

// machines measures what listing the machines of a real host costs. Where none can be run, it says so.
func machines(b *bench) error {
	d, err := startDaemon()
	if err != nil {
		fmt.Printf("\nmachines of a host: not measured, since none can be run here: %v\n", err)
		return nil
	}
	err = b.withService("machines", func(s service) error { return listMachines(s, d) })
	return errors.Join(err, d.Close())
}

func listMachines(s service, d *guestd.Daemon) error {
	ctx := context.Background()
	if err := makeKnown(ctx, d); err != nil {
		return err
	}
	runs := "libvirt"
	if _, err := s.ChangeHost(ctx, "local", api.HostChange{Runs: &runs, Socket: &d.Socket}); err != nil {
		return err
	}
	var took []float64
	for range listings {
		begin := time.Now()
		list, err := s.Machines(ctx, "local")
		if err != nil {
			return err
		}
		if len(list.Items) != ofAHost {
			return fmt.Errorf("%d of %d machines were listed", len(list.Items), ofAHost)
		}
		took = append(took, time.Since(begin).Seconds())
	}
	fmt.Printf(
		"\n%-60s %10s\n%-60s %10.1f\n",
		fmt.Sprintf("a host of %d machines", ofAHost),
		"ms",
		"all of them listed, median",
		1000*median(took),
	)
	return nil
}

// makeKnown makes the machines known to the daemon. Their disks are never opened.
func makeKnown(ctx context.Context, d *guestd.Daemon) (err error) {
	kind, err := host.Lookup("libvirt")
	if err != nil {
		return err
	}
	h, err := kind.Open(ctx, host.Address{Socket: d.Socket, Dial: func(ctx context.Context, network, address string) (net.Conn, error) {
		return (&net.Dialer{}).DialContext(ctx, network, address)
	}})
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, h.Close()) }()
	for i := range ofAHost {
		_, err := h.(host.Definer).Define(
			ctx,
			fmt.Appendf(nil, `<domain type="qemu"><name>tide-%03d</name><memory unit="MiB">64</memory><vcpu>1</vcpu>
<os><type arch="x86_64" machine="pc">hvm</type></os><devices>
<disk type="file" device="disk"><driver type="qcow2"/><source file="%s"/><target dev="vda" bus="virtio"/></disk>
<interface type="user"/></devices></domain>`, i, fmt.Sprintf("%s/tide-%03d.qcow2", d.Disks, i)),
		)
		if err != nil {
			return err
		}
	}
	return nil
}
