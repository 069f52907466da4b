package main

import (
	"context"
	"crypto/ed25519"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"time"

	"bagaglio/api"
	"bagaglio/core/host"
	"bagaglio/core/machine"
	"bagaglio/core/plan"
	"bagaglio/internal/bootcode"
	"bagaglio/internal/door"
	"bagaglio/internal/guestd"

	"golang.org/x/crypto/ssh"
)

// filled is how much the guest has in memory, in bytes.
const filled = 1 << 30

// standing are the steps in which it stands still for longer.
var standing = map[string]string{
	plan.StepLast:  "of that, until it was copied and compared",
	plan.StepStart: "likewise, until its new host had read it",
}

// filler is the definition of a guest that has filled its memory.
const filler = `<domain type="qemu"><name>filler</name><memory unit="MiB">1032</memory><vcpu>1</vcpu>
<os><type arch="x86_64" machine="pc">hvm</type></os><features><acpi/></features><devices>
<disk type="file" device="disk"><driver name="qemu" type="raw"/><source file="%s"/><target dev="hda" bus="ide"/></disk>
<serial type="pty"/></devices></domain>`

// withMemory measures for how long a guest stands still that moves to another daemon with what it has in memory, against what that takes by itself: its host writes it, it is copied by
// cp and sync, and its host has it go on.
func withMemory(b *bench, here *guestd.Daemon) error {
	there, err := startDaemon()
	if err != nil {
		return err
	}
	err = b.withService("memory", func(s service) error {
		ctx := context.Background()
		if err := joinBoth(ctx, s, b, here, there); err != nil {
			return err
		}
		return moveFilled(ctx, s, here, there)
	})
	return errors.Join(err, there.Close())
}

// joinBoth has the service know both daemons, the second one over SSH.
func joinBoth(ctx context.Context, s service, b *bench, here, there *guestd.Daemon) error {
	runs, crew, agent, away := "libvirt", "crew", false, "away"
	if _, err := s.ChangeHost(ctx, "local", api.HostChange{Runs: &runs, Socket: &here.Socket}); err != nil {
		return err
	}
	public, private, err := ed25519.GenerateKey(nil)
	if err != nil {
		return err
	}
	key, err := ssh.NewPublicKey(public)
	if err != nil {
		return err
	}
	block, err := ssh.MarshalPrivateKey(private, "")
	if err != nil {
		return err
	}
	state := filepath.Join(b.dir, "door")
	authorized := filepath.Join(state, "authorized")
	if err := errors.Join(os.Mkdir(state, 0o700), os.WriteFile(authorized, ssh.MarshalAuthorizedKey(key), 0o600)); err != nil {
		return err
	}
	way, err := door.Open(state, authorized)
	if err != nil {
		return err
	}
	way.Sockets = true
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return err
	}
	go func() { _ = way.Serve(l) }() // until the bench ends
	login := string(pem.EncodeToMemory(block))
	_, err = s.AddHost(ctx, api.NewHost{
		Name: away, Kind: api.NewHostKindSftp, Address: l.Addr().String(), TrustedKey: &way.Fingerprint, User: &crew, Runs: &runs,
		Socket: &there.Socket, Login: &api.Secrets{Key: &login, Agent: &agent},
	})
	if err != nil {
		return err
	}
	for pool, d := range map[string]*guestd.Daemon{"here": here, "there": there} {
		given := api.NewPool{Name: pool, Folder: d.Disks}
		if d == there {
			given.Host = &away
		}
		if _, err := s.AddPool(ctx, given); err != nil {
			return err
		}
		if _, err := s.ChangePool(ctx, pool, api.PoolChange{Rules: plan.Rules{Owner: d.Owner, Mode: "0660"}}); err != nil {
			return err
		}
	}
	return nil
}

func moveFilled(ctx context.Context, s service, here, there *guestd.Daemon) error {
	uid, gid, err := owner(here.Owner)
	if err != nil {
		return err
	}
	file := filepath.Join(here.Disks, "filler.raw")
	disk := append(bootcode.Filler(filled), make([]byte, 16<<20-bootcode.Length)...)
	if err := errors.Join(os.WriteFile(file, disk, 0o660), os.Chown(file, uid, gid)); err != nil {
		return err
	}
	h, err := reach(ctx, here)
	if err != nil {
		return err
	}
	defer h.Close()
	m, err := h.(host.Definer).Define(ctx, fmt.Appendf(nil, filler, file))
	if err == nil {
		err = h.(host.Power).Start(ctx, m)
	}
	if err == nil {
		err = hasSaid(ctx, h, m)
	}
	if err != nil {
		return err
	}
	done, err := does(ctx, s, plan.Request{
		Kind:        plan.MoveMachine,
		Machine:     "local:filler",
		To:          "away",
		Destination: &plan.Place{Pool: "there"},
		As:          "raw",
		Live:        true,
		WithMemory:  true,
	}, func(string) {})
	if err != nil {
		return err
	}
	byItself, size, err := carryByHand(ctx, there)
	if err != nil {
		return err
	}
	fmt.Printf("\n%-60s\n", fmt.Sprintf("a guest with %d MiB in memory moves to another daemon over SSH", size>>20))
	fmt.Printf("%-60s %10.1f\n", "for how long it stood still, s", float64(done.StoppedMs)/1000)
	for _, step := range done.Steps {
		if what, ok := standing[step.Name]; ok {
			fmt.Printf("%-60s %10.1f\n", "  "+what, step.Seconds)
		}
	}
	fmt.Printf("%-60s %10.1f\n", "written, copied by cp and sync, and gone on from, s", byItself.Seconds())
	return nil
}

// hasSaid waits until a guest has written something on its serial port.
func hasSaid(ctx context.Context, h host.Host, m host.Machine) error {
	ctx, cancel := context.WithTimeout(ctx, time.Minute)
	defer cancel()
	r, w := io.Pipe()
	go func() { _ = w.CloseWithError(h.(host.Listener).Listen(ctx, m, w)) }() // it is read
	_, err := r.Read(make([]byte, 1))
	return err
}

// carryByHand has the machine go on from what it had in memory on the host where it is, and tells how long that took.
func carryByHand(ctx context.Context, d *guestd.Daemon) (took time.Duration, size int64, err error) {
	h, err := reach(ctx, d)
	if err != nil {
		return 0, 0, err
	}
	defer h.Close()
	m, err := h.Machine(ctx, "filler")
	if err != nil {
		return 0, 0, err
	}
	is, err := machine.Describe(m.Format, m.Definition)
	if err != nil {
		return 0, 0, err
	}
	file, copied := filepath.Join(d.Disks, "by-hand"), filepath.Join(d.Disks, "by-hand-copied")
	begun := time.Now()
	if err := h.(host.Saver).Save(ctx, m, file); err != nil {
		return 0, 0, err
	}
	copies := exec.CommandContext(ctx, "sh", "-c", `cp "$0" "$1" && sync "$1" && chown "$2" "$1"`, file, copied, d.Owner)
	if out, err := copies.CombinedOutput(); err != nil {
		return 0, 0, fmt.Errorf("copying: %w: %s", err, out)
	}
	err = h.(host.Saver).Restore(ctx, m, copied, is)
	took = time.Since(begun)
	if err != nil {
		return 0, 0, err
	}
	info, err := os.Stat(copied)
	if err != nil {
		return 0, 0, err
	}
	return took, info.Size(), h.(host.Power).CutOff(ctx, m)
}
