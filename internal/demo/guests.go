package demo

import (
	"context"
	"crypto/ed25519"
	"encoding/pem"
	"errors"
	"fmt"
	"os"
	"path/filepath"

	"bagaglio/api"
	"bagaglio/core/host"
	_ "bagaglio/core/host/standin"
	definition "bagaglio/core/machine"
	"bagaglio/core/machine/own"
	"bagaglio/core/plan"
	"bagaglio/internal/standin"

	"golang.org/x/crypto/ssh"
)

// hosts are the two of the demo world that run machines, simulated: what they take is different, so that a machine has to change on its way.
var hosts = []struct {
	name, pool string
	traits     standin.Traits
}{
	{"quay", "harbour", standin.Traits{
		Formats: []string{"vmdk"}, Layouts: []string{"flat"}, Folders: true, Networks: []string{"quay-lan"},
	}},
	{"lighthouse", "lamp-room", standin.Traits{
		Formats: []string{"qcow2", "raw"}, Folders: true, Networks: []string{"lamp-lan"}, Memory: 4 << 30,
	}},
}

// startHosts runs the hosts until ctx ends, adds them to the service, and returns the addresses of their APIs. What is returned waits for their
// end.
func (s *show) startHosts(ctx context.Context) (urls map[string]string, wait func() error, err error) {
	state := s.makeFolder("hosts")
	public, private, err := ed25519.GenerateKey(nil)
	if err != nil {
		return nil, nil, err
	}
	key, err := ssh.NewPublicKey(public)
	if err != nil {
		return nil, nil, err
	}
	block, err := ssh.MarshalPrivateKey(private, "")
	if err != nil {
		return nil, nil, err
	}
	authorized := filepath.Join(state, "authorized")
	if err := os.WriteFile(authorized, ssh.MarshalAuthorizedKey(key), 0o600); err != nil {
		return nil, nil, err
	}
	login, runs, user, agent := string(pem.EncodeToMemory(block)), "standin", "crew", false
	urls = map[string]string{}
	ended := make(chan error, len(hosts))
	for _, h := range hosts {
		o := standin.Options{
			State: s.makeFolder("hosts/" + h.name), Folder: s.makeFolder(h.pool), Traits: h.traits,
			Listen: "127.0.0.1:0", Files: "127.0.0.1:0", Authorized: authorized,
		}
		started := make(chan standin.Started, 1)
		go func() {
			err := standin.Run(ctx, o, func(at standin.Started) { started <- at })
			close(started)
			ended <- err
		}()
		at, ok := <-started
		if !ok {
			return nil, nil, <-ended
		}
		urls[h.name] = at.URL
		if _, err := s.service.AddHost(ctx, api.NewHost{
			Name: h.name, Kind: api.NewHostKindSftp, Address: at.Files, User: &user, TrustedKey: &at.HostKey, Runs: &runs, Machines: &at.URL,
			Login: &api.Secrets{Key: &login, Agent: &agent},
		}); err != nil {
			return nil, nil, err
		}
		if _, err := s.service.AddPool(ctx, api.NewPool{Name: h.pool, Host: &h.name, Folder: o.Folder}); err != nil {
			return nil, nil, err
		}
		s.say("The host %s is a stand-in (docs/standin.md): it takes %v, and its network is %v.", h.name, h.traits.Formats, h.traits.Networks)
	}
	wait = func() (err error) {
		for range hosts {
			err = errors.Join(err, <-ended)
		}
		return err
	}
	return urls, wait, nil
}

// ticketing is the machine of the ticket office, whose disk lies at a path of the quay.
func ticketing(disk string) definition.Machine {
	return definition.Machine{
		Name: "ticketing", UUID: "3f0c8d52-7c1e-4a57-9d3a-6b1f0c2e8a41", Notes: "Ticket office, quay", Memory: 512 << 20,
		Processors: definition.Processors{Count: 2}, Firmware: definition.UEFI,
		Disks:    []definition.Disk{{File: disk, Format: "vmdk", Bus: "scsi", Slot: "sda", Boot: 1}},
		Networks: []definition.Network{{Kind: "network", Network: "quay-lan", MAC: "52:54:00:71:c4:e7", Model: "virtio"}},
	}
}

// round moves a machine that runs from one host to the other.
func (s *show) round(ctx context.Context, urls map[string]string) error {
	_, err := s.carry(ctx, "The disk of ticketing lies at the quay as that takes it", plan.Request{
		Kind: plan.Convert, As: "vmdk", Layout: "flat", Source: plan.Place{Pool: "quay-store", Path: "ticketing.raw"},
		Destination: &plan.Place{Pool: "harbour", Path: "ticketing/ticketing.vmdk"},
	})
	if err != nil {
		return err
	}
	text, err := definition.Become(nil, "", own.Name, ticketing(filepath.Join(s.dir, "harbour", "ticketing", "ticketing.vmdk")))
	if err != nil {
		return err
	}
	kind, err := host.Lookup("standin")
	if err != nil {
		return err
	}
	quay, err := kind.Open(ctx, host.Address{URL: urls["quay"]})
	if err != nil {
		return err
	}
	defer quay.Close()
	if _, err := quay.(host.Definer).Define(ctx, text); err != nil {
		return err
	}
	running, err := s.service.StartMachine(ctx, "quay", "ticketing")
	if err != nil {
		return err
	}
	s.say("\nquay:ticketing is %s, with %d disk(s).", running.State, len(running.Disks))
	done, err := s.carry(ctx, "quay:ticketing moves to the lighthouse", plan.Request{
		Kind: plan.MoveMachine, Machine: "quay:ticketing", To: "lighthouse", Destination: &plan.Place{Pool: "lamp-room"}, As: "qcow2",
		Stop: true, Start: true, Networks: map[string]string{"quay-lan": "lamp-lan"},
	})
	if err != nil {
		return err
	}
	if !done.Machine.CameUp {
		return fmt.Errorf("ticketing was not seen to come up: %v", done.Machine.Evidence)
	}
	s.say("The picture of its screen is in the receipt, %d bytes of PNG.", len(done.Machine.Screen))
	return nil
}
