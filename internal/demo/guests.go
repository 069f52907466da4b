package demo

import (
	"context"
	"crypto/ed25519"
	"encoding/pem"
	"errors"
	"fmt"
	"net"
	"os"
	"os/user"
	"path/filepath"
	"slices"

	"bagaglio/api"
	_ "bagaglio/core/host/libvirt"
	_ "bagaglio/core/host/standin"
	definition "bagaglio/core/machine"
	"bagaglio/core/plan"
	"bagaglio/internal/door"
	"bagaglio/internal/guestd"
	"bagaglio/internal/standin"

	"golang.org/x/crypto/ssh"
)

// hosts are the two of the demo world that run machines. What they take is different, so that a machine has to change on its way. The lighthouse
// is a real one where that is possible.
var hosts = []struct {
	name   string
	pools  []string
	traits standin.Traits
}{
	{quay, []string{"harbour", "slipway"}, standin.Traits{
		Formats: []string{"vmdk"}, Layouts: []string{"flat"}, Folders: true, Networks: []string{"quay-lan"}, Layers: true, Writes: true,
	}},
	{lighthouse, []string{"lamp-room", "gallery"}, standin.Traits{
		Formats: []string{"qcow2", "raw"}, Folders: true, Networks: []string{"lamp-lan"}, Memory: 4 << 30, Layers: true,
	}},
}

const quay, lighthouse = "quay", "lighthouse"

// stateOf is the folder with the inventory of a host.
func (s *show) stateOf(host string) string { return s.makeFolder("hosts/" + host) }

// inHarbour is the path of a file in the first pool of the quay.
func (s *show) inHarbour(name string) string {
	return filepath.Join(s.makeFolder(quay), "harbour", name)
}

// guests are the hosts while the demo runs.
type guests struct {
	url     string // of the API of the quay
	disks   string // the folder of the first pool of the lighthouse
	network string // of the lighthouse, empty for one without
	ends    []func() error
}

// Close ends them.
func (g *guests) Close() (err error) {
	for _, end := range slices.Backward(g.ends) {
		err = errors.Join(err, end())
	}
	return err
}

// keys are those by which the service enters a host.
type keys struct {
	authorized string // a file with the public one
	private    string
}

func (s *show) makeKeys(state string) (k keys, err error) {
	public, private, err := ed25519.GenerateKey(nil)
	if err != nil {
		return k, err
	}
	key, err := ssh.NewPublicKey(public)
	if err != nil {
		return k, err
	}
	block, err := ssh.MarshalPrivateKey(private, "")
	if err != nil {
		return k, err
	}
	k = keys{authorized: filepath.Join(state, "authorized"), private: string(pem.EncodeToMemory(block))}
	return k, os.WriteFile(k.authorized, ssh.MarshalAuthorizedKey(key), 0o600)
}

// startHosts runs the hosts and adds them to the service. The caller closes them, also where it fails.
func (s *show) startHosts(ctx context.Context) (*guests, error) {
	g := &guests{}
	k, err := s.makeKeys(s.makeFolder("hosts"))
	if err != nil {
		return g, err
	}
	for _, h := range hosts {
		if h.name == lighthouse {
			err := s.startReal(ctx, g, k, h.name, h.pools)
			if err == nil {
				continue
			}
			s.say("The lighthouse is simulated, since no real host can be run here: %v.", err)
			g.network, g.disks = h.traits.Networks[0], filepath.Join(s.makeFolder(h.name), h.pools[0])
		}
		if err := s.startStandIn(ctx, g, k, h.name, h.pools, h.traits); err != nil {
			return g, err
		}
		s.say("The host %s is a stand-in (docs/standin.md): it takes %v, and its network is %v.", h.name, h.traits.Formats, h.traits.Networks)
	}
	return g, nil
}

// startStandIn runs a stand-in.
func (s *show) startStandIn(ctx context.Context, g *guests, k keys, name string, pools []string, t standin.Traits) error {
	o := standin.Options{
		State: s.stateOf(name), Folder: s.makeFolder(name), Traits: t,
		Listen: "127.0.0.1:0", Files: "127.0.0.1:0", Authorized: k.authorized,
	}
	runs, stop := context.WithCancel(context.WithoutCancel(ctx)) // it ends behind the service
	started, ended := make(chan standin.Started, 1), make(chan error, 1)
	go func() {
		ended <- standin.Run(runs, o, func(at standin.Started) { started <- at })
		close(started)
	}()
	g.ends = append(g.ends, func() error { stop(); return <-ended })
	at, ok := <-started
	if !ok {
		return fmt.Errorf("the stand-in %s did not start", name)
	}
	if name != lighthouse {
		g.url = at.URL
	}
	kind := "standin"
	h := api.NewHost{Name: name, Address: at.Files, TrustedKey: &at.HostKey, Runs: &kind, Machines: &at.URL}
	for _, pool := range pools {
		s.makeFolder(filepath.Join(name, pool))
	}
	return s.join(ctx, h, k, o.Folder, pools)
}

// startReal runs a real host of machines with the rights of an ordinary user, and a door to its files and its socket.
func (s *show) startReal(ctx context.Context, g *guests, k keys, name string, pools []string) error {
	u, err := user.Current()
	if err == nil && u.Uid == "0" {
		u, err = user.Lookup("nobody")
	}
	if err != nil {
		return err
	}
	d, err := guestd.Start(u)
	if err != nil {
		return err
	}
	way, err := door.Open(s.stateOf(name), k.authorized)
	if err != nil {
		return errors.Join(err, d.Close())
	}
	way.Sockets = true
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return errors.Join(err, d.Close())
	}
	go func() { _ = way.Serve(l) }() // until the listener is closed
	g.ends = append(g.ends, func() error { return errors.Join(l.Close(), d.Close()) })
	kind := "libvirt"
	h := api.NewHost{Name: name, Address: l.Addr().String(), TrustedKey: &way.Fingerprint, Runs: &kind, Socket: &d.Socket}
	for _, pool := range pools {
		if err := os.Mkdir(filepath.Join(d.Disks, pool), 0o755); err != nil {
			return err
		}
	}
	if err := s.join(ctx, h, k, d.Disks, pools); err != nil {
		return err
	}
	if os.Getuid() == 0 { // what the service writes is to be the guests'
		for _, pool := range pools {
			if _, err := s.service.ChangePool(ctx, pool, api.PoolChange{Rules: plan.Rules{Owner: d.Owner, Mode: "0660"}}); err != nil {
				return err
			}
		}
	}
	g.disks = filepath.Join(d.Disks, pools[0])
	s.say(
		"The host %s is a real one, a virtualisation daemon with the rights of the user %s. Its guests run by software emulation.",
		name,
		u.Username,
	)
	return nil
}

// join adds a host and its pools, which are folders of one, to the service.
func (s *show) join(ctx context.Context, h api.NewHost, k keys, folder string, pools []string) error {
	login, crew, agent := k.private, "crew", false
	h.Kind, h.User, h.Login = api.NewHostKindSftp, &crew, &api.Secrets{Key: &login, Agent: &agent}
	if _, err := s.service.AddHost(ctx, h); err != nil {
		return err
	}
	for _, pool := range pools {
		if _, err := s.service.AddPool(ctx, api.NewPool{Name: pool, Host: &h.Name, Folder: filepath.Join(folder, pool)}); err != nil {
			return err
		}
	}
	return nil
}

// ticketing is the machine of the ticket office, whose disk lies at a path of the quay.
func ticketing(disk string) definition.Machine {
	return definition.Machine{
		Name: "ticketing", UUID: "3f0c8d52-7c1e-4a57-9d3a-6b1f0c2e8a41", Notes: "Ticket office, quay", Memory: 512 << 20,
		Processors: definition.Processors{Count: 2}, Firmware: definition.BIOS,
		Disks:    []definition.Disk{{File: disk, Format: "vmdk", Bus: "scsi", Slot: "sda", Boot: 1}},
		Networks: []definition.Network{{Kind: "network", Network: "quay-lan", MAC: "52:54:00:71:c4:e7", Model: "virtio"}},
	}
}

// round moves a machine that runs from one host to the other.
func (s *show) round(ctx context.Context, g *guests) error {
	_, err := s.carry(ctx, "The disk of ticketing lies at the quay as that takes it", plan.Request{
		Kind: plan.Convert, As: "vmdk", Layout: "flat", Source: plan.Place{Pool: "quay-store", Path: "ticketing.raw"},
		Destination: &plan.Place{Pool: "harbour", Path: "ticketing/ticketing.vmdk"},
	})
	if err != nil {
		return err
	}
	if err := s.define(ctx, g, ticketing(s.inHarbour("ticketing/ticketing.vmdk"))); err != nil {
		return err
	}
	running, err := s.service.StartMachine(ctx, "quay", "ticketing")
	if err != nil {
		return err
	}
	s.say("\nquay:ticketing is %s, with %d disk(s).", running.State, len(running.Disks))
	if err := s.sell(ctx); err != nil {
		return err
	}
	done, err := s.carry(ctx, "quay:ticketing moves to the lighthouse", plan.Request{
		Kind:        plan.MoveMachine,
		Machine:     "quay:ticketing",
		To:          "lighthouse",
		Destination: &plan.Place{Pool: "lamp-room"},
		As:          "qcow2",
		Stop:        true,
		Start:       true,
		Networks:    map[string]string{"quay-lan": g.network},
		Changes:     plan.Changes{Buses: map[string]string{"all": "virtio"}},
	})
	if err != nil {
		return err
	}
	if !done.Machine.CameUp {
		return fmt.Errorf("ticketing was not seen to come up: %v", done.Machine.Evidence)
	}
	if err := s.sold(ctx, g); err != nil {
		return err
	}
	s.say("The picture of its screen is in the receipt, %d bytes of PNG.", len(done.Machine.Screen))
	return nil
}
