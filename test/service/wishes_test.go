package service

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"bagaglio/api"
	"bagaglio/core/machine"
	"bagaglio/core/plan"
	"bagaglio/internal/demo"
	"bagaglio/internal/standin"
	"bagaglio/internal/testkit"
	"bagaglio/internal/testkit/standins"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// ledgerID is the UUID of cargo-ledger.
const ledgerID = "7d1f0b52-2c6e-4e0f-8a37-51c0a9e4d3b7"

// cargoLedger is a machine of quay with three disks in three folders, of which a pool each is made, and with variables of its firmware.
func cargoLedger(t *testing.T, s *testkit.Service, quay *standins.Host) {
	t.Helper()
	m := machine.Machine{
		Name: "cargo-ledger", UUID: ledgerID, Processors: machine.Processors{Count: 2, Sockets: 1, Cores: 2, Threads: 1}, Memory: 64 << 20,
		Firmware: machine.BIOS, Chipset: "pc", Networks: []machine.Network{{Kind: "network", Network: "quay", MAC: "52:54:00:00:00:07"}},
	}
	host := "quay"
	for i, slot := range []string{"vda", "vdb", "vdc"} {
		dir := filepath.Join(quay.Folder, "shelf-"+slot)
		require.NoError(t, os.Mkdir(dir, 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(dir, "ledger.raw"), append(bootable(), byte(i+1)), 0o600))
		m.Disks = append(m.Disks, machine.Disk{File: filepath.Join(dir, "ledger.raw"), Format: "raw", Bus: "virtio", Slot: slot})
		_, err := s.AddPool(t.Context(), api.NewPool{Name: "shelf-" + slot, Host: &host, Folder: dir})
		require.NoError(t, err)
	}
	text, err := machine.Become(nil, "", "machine-file", m)
	require.NoError(t, err)
	_, err = quay.Define(text)
	require.NoError(t, err)
}

// TestDisksOfTheirOwn places: a machine with three disks in three pools goes to a host where each has a place and a form of its own, and is
// another one in whatever was asked for; what stays behind is said.
func TestDisksOfTheirOwn(t *testing.T) {
	t.Parallel()
	s := start(t)
	quay := standins.Join(t, s.Service, "quay", "quay-store", standin.Traits{})
	lighthouse := standins.Join(
		t,
		s.Service,
		"lighthouse",
		"lamp-room",
		standin.Traits{Networks: []string{"pier"}, Buses: []string{"sata", "ide"}},
	)
	cargoLedger(t, s, quay)
	on := "lighthouse"
	for _, name := range []string{"gallery", "cellar"} {
		require.NoError(t, os.Mkdir(filepath.Join(lighthouse.Folder, name), 0o755))
		_, err := s.AddPool(t.Context(), api.NewPool{Name: name, Host: &on, Folder: filepath.Join(lighthouse.Folder, name)})
		require.NoError(t, err)
	}
	notes := "moved to the lighthouse"
	move := plan.Request{
		Kind:        plan.MoveMachine,
		Machine:     "quay:cargo-ledger",
		To:          "lighthouse",
		Destination: &plan.Place{Pool: "lamp-room"},
		As:          "qcow2",
		Start:       true,
		Disks:       map[string]plan.DiskChoice{"vdb": {Pool: "gallery", Path: "books", As: "vhdx"}, "vdc": {Leave: true}},
		Networks:    map[string]string{"quay": "pier"},
	}
	p, err := s.Plan(t.Context(), move)
	require.NoError(t, err)
	require.True(t, p.Blocked)
	limits := check(t, p.Plan, "limits")
	assert.Contains(t, limits.Message, "no disk on the bus virtio, but sata, ide")
	assert.JSONEq(t, `{"changes":{"buses":{"vda":"sata"}}}`, string(limits.Remedies[0].Change))
	move.Changes = plan.Changes{
		Notes: &notes, Processors: 1, Memory: 96 << 20, Chipset: "q35", Buses: map[string]string{"all": "sata"},
		Addresses: map[string]string{"52:54:00:00:00:07": "52:54:00:aa:00:07"},
	}
	p, err = s.Plan(t.Context(), move)
	require.NoError(t, err)
	require.False(t, p.Blocked, "%+v", p.Plan.Checks)
	assert.Contains(t, check(t, p.Plan, "disk").Message, "The disk vdc stays behind")
	r := testkit.Proven(t, s.Service, testkit.Begin(t, s.Service, move).Id)
	assert.True(t, r.Machine.CameUp)
	assert.Len(t, r.Parts, 2)
	m, err := s.Machine(t.Context(), "lighthouse", "cargo-ledger")
	require.NoError(t, err)
	assert.Equal(t, machine.Machine{
		Name:       "cargo-ledger",
		UUID:       ledgerID,
		Notes:      notes,
		Processors: machine.Processors{Count: 1},
		Memory:     96 << 20,
		Firmware:   machine.BIOS,
		Chipset:    "q35",
		Networks:   []machine.Network{{Kind: "network", Network: "pier", MAC: "52:54:00:aa:00:07"}},
		Disks: []machine.Disk{
			{File: filepath.Join(lighthouse.Folder, "cargo-ledger/ledger.qcow2"), Format: "qcow2", Bus: "sata", Slot: "sda"},
			{File: filepath.Join(lighthouse.Folder, "gallery/books/ledger-2.vhdx"), Format: "vhdx", Bus: "sata", Slot: "sdb"},
		},
	}, *m.Is)
	assert.Equal(t, "gallery", *m.Disks[1].Pool)

	_, err = s.StopMachine(t.Context(), "lighthouse", "cargo-ledger", 10, false)
	require.NoError(t, err)
	stays := plan.Request{
		Kind: plan.MoveMachine, Machine: "lighthouse:cargo-ledger", To: "lighthouse", Destination: &plan.Place{Pool: "cellar"}, Release: true,
		Disks: map[string]plan.DiskChoice{"sdb": {Leave: true}}, As: "vdi",
	}
	testkit.Proven(t, s.Service, testkit.Begin(t, s.Service, stays).Id)
	m, err = s.Machine(t.Context(), "lighthouse", "cargo-ledger")
	require.NoError(t, err)
	assert.Equal(
		t,
		"cellar:cargo-ledger/ledger.vdi gallery:books/ledger-2.vhdx",
		*m.Disks[0].Pool+":"+*m.Disks[0].Path+" "+*m.Disks[1].Pool+":"+*m.Disks[1].Path,
		"one disk goes to another pool of its host, the other one stays",
	)

	for want, change := range map[string]func(*plan.Request){
		"has no disk vdz: it has sda, sdb": func(r *plan.Request) { r.Disks = map[string]plan.DiskChoice{"vdz": {Leave: true}} },
		"has no network card":              func(r *plan.Request) { r.Changes.Addresses = map[string]string{"x": "y"} },
		"No disk would be carried": func(r *plan.Request) {
			r.Disks = map[string]plan.DiskChoice{"sda": {Leave: true}, "sdb": {Leave: true}}
		},
	} {
		wrong := stays
		change(&wrong)
		p, err := s.Plan(t.Context(), wrong)
		require.NoError(t, err)
		require.True(t, p.Blocked)
		assert.Contains(t, messages(p.Plan), want)
	}
}

// messages are those of all checks.
func messages(p plan.Plan) string {
	var all []string
	for _, c := range p.Checks {
		all = append(all, c.Message)
	}
	return strings.Join(all, "\n")
}

// TestADriveThatTravels: a machine goes into a folder that no host knows, with its definition beside its disks, and from there to another host,
// as the same machine; also by a definition of another format.
func TestADriveThatTravels(t *testing.T) {
	t.Parallel()
	for format, file := range map[string]string{"": "ticketing.machine.yaml", "domain-xml": "ticketing.xml", "vmx": "ticketing.vmx"} {
		t.Run(file, func(t *testing.T) {
			t.Parallel()
			s := start(t)
			quay := standins.Join(t, s.Service, "quay", "quay-store", standin.Traits{})
			lighthouse := standins.Join(t, s.Service, "lighthouse", "lamp-room", standin.Traits{Layouts: []string{"flat"}})
			quay.Ticketing(t, bootable())
			drive := t.TempDir()
			addPool(t, s.Service, "seabag", drive)
			out := plan.Request{
				Kind:        plan.CopyMachine,
				Machine:     "quay:ticketing",
				Destination: &plan.Place{Pool: "seabag"},
				As:          "qcow2",
				Definition:  format,
				Stop:        true,
			}
			_, err := s.StartMachine(t.Context(), "quay", "ticketing")
			require.NoError(t, err)
			if format == "vmx" {
				p, err := s.Plan(t.Context(), out)
				require.NoError(t, err)
				require.True(t, p.Blocked)
				assert.Contains(t, messages(p.Plan), "A definition in the format vmx takes no disk of the form qcow2, thin")
				out.As = ""
			}
			r := testkit.Proven(t, s.Service, testkit.Begin(t, s.Service, out).Id)
			assert.Equal(t, "seabag:ticketing/"+file, r.Machine.To)
			assert.Equal(t, api.MachineStateRunning, state(t, s, "quay"), "it was shut down for that, and goes on")
			assert.FileExists(t, filepath.Join(drive, "ticketing", file))
			text, err := os.ReadFile(filepath.Join(drive, "ticketing", file))
			require.NoError(t, err)
			assert.NotContains(t, string(text), drive, "the disk lies beside it, wherever that will be")
			again, err := s.Plan(t.Context(), out)
			require.NoError(t, err)
			assert.Contains(t, messages(again.Plan), "seabag:ticketing/"+file+" is there already", "nothing of an earlier time is overwritten")

			in := plan.Request{
				Kind: plan.MoveMachine, Source: plan.Place{Pool: "seabag", Path: "ticketing/" + file}, To: "lighthouse",
				Destination: &plan.Place{Pool: "lamp-room"}, Start: true,
			}
			twice, err := s.Plan(t.Context(), in)
			require.NoError(t, err)
			require.True(t, twice.Blocked)
			assert.Contains(
				t,
				check(t, twice.Plan, "identity").Message,
				"quay:ticketing has the identity "+standins.TicketingID+" too, and is not off",
			)
			_, err = s.StopMachine(t.Context(), "quay", "ticketing", 10, false)
			require.NoError(t, err)
			r = testkit.Proven(t, s.Service, testkit.Begin(t, s.Service, in).Id)
			assert.True(t, r.Machine.CameUp)
			m, err := s.Machine(t.Context(), "lighthouse", "ticketing")
			require.NoError(t, err)
			assert.Equal(t, standins.TicketingID, m.Uuid, "it is the same machine")
			assert.Equal(t, "52:54:00:00:00:01", m.Is.Networks[0].MAC)
			assert.Equal(t, filepath.Join(lighthouse.Folder, "ticketing/ticketing.vmdk")+" vmdk", m.Is.Disks[0].File+" "+m.Is.Disks[0].Format,
				"the host takes no other layout")
			assert.FileExists(t, filepath.Join(drive, "ticketing", file), "what is on the drive stays")
		})
	}
}

// TestADefinitionInAPool is data: what it names in another pool is said, and it is looked at again before anything comes of it. A move into a
// folder is taken back like any other.
func TestADefinitionInAPool(t *testing.T) {
	t.Parallel()
	s := start(t)
	quay := standins.Join(t, s.Service, "quay", "quay-store", standin.Traits{Formats: []string{"raw"}})
	quay.Ticketing(t, bootable())
	drive, secret := t.TempDir(), t.TempDir()
	addPool(t, s.Service, "seabag", drive)
	addPool(t, s.Service, "office", secret)
	out := plan.Request{Kind: plan.MoveMachine, Machine: "quay:ticketing", Destination: &plan.Place{Pool: "seabag"}}
	moved := testkit.Begin(t, s.Service, out)
	testkit.Proven(t, s.Service, moved.Id)
	assert.Empty(t, state(t, s, "quay"))
	undo := plan.Request{Kind: plan.Undo, Job: moved.Id}
	p, err := s.Plan(t.Context(), undo)
	require.NoError(t, err)
	require.False(t, p.Blocked, "%+v", p.Plan.Checks)
	require.Equal(t, api.JobStateDone, testkit.Await(t, s.Service, testkit.Begin(t, s.Service, undo).Id).State)
	assert.Equal(t, api.MachineStateOff, state(t, s, "quay"))
	assert.NoFileExists(t, filepath.Join(drive, "ticketing/ticketing.machine.yaml"))

	require.NoError(t, os.WriteFile(filepath.Join(secret, "wages.raw"), bootable(), 0o600))
	file := filepath.Join(drive, "wages.machine.yaml")
	require.NoError(
		t,
		os.WriteFile(file, []byte(standins.Definition("wages", ledgerID, "../"+filepath.Base(secret)+"/wages.raw", "raw")), 0o600),
	)
	in := plan.Request{
		Kind:        plan.MoveMachine,
		Source:      plan.Place{Pool: "seabag", Path: "wages.machine.yaml"},
		To:          "quay",
		Destination: &plan.Place{Pool: "quay-store"},
	}
	p, err = s.Plan(t.Context(), in)
	require.NoError(t, err)
	assert.Contains(t, check(t, p.Plan, "pool").Message, "names a disk of another pool, office:wages.raw")

	require.NoError(t, os.WriteFile(filepath.Join(drive, "wages.raw"), bootable(), 0o600))
	require.NoError(t, os.WriteFile(file, []byte(standins.Definition("wages", ledgerID, "wages.raw", "raw")), 0o600))
	speed := int64(1)
	p, err = s.Plan(t.Context(), in)
	require.NoError(t, err)
	require.False(t, p.Blocked, "%+v", p.Plan.Checks)
	job, err := s.Start(t.Context(), api.NewJob{Plan: p.Id, Speed: &speed})
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(file, []byte(standins.Definition("wages", ledgerID, "other.raw", "raw")), 0o600))
	_, err = s.Change(t.Context(), job.Id, api.JobChange{Speed: new(int64)})
	require.NoError(t, err)
	require.Eventually(t, func() bool {
		j, err := s.Job(t.Context(), job.Id)
		return err == nil && j.State == api.JobStatePaused && j.Reason != nil &&
			strings.Contains(*j.Reason, "was changed since this was planned (disk 1, file)")
	}, time.Minute, 20*time.Millisecond)
	list, err := s.Machines(t.Context(), "quay")
	require.NoError(t, err)
	assert.Len(t, list.Items, 1, "nothing came of it")
}

// TestIdentities: a copy keeps its identity only where that is said, and then never runs beside the machine.
func TestIdentities(t *testing.T) {
	t.Parallel()
	s := start(t)
	quay := standins.Join(t, s.Service, "quay", "quay-store", standin.Traits{})
	standins.Join(t, s.Service, "lighthouse", "lamp-room", standin.Traits{})
	quay.Ticketing(t, bootable())
	twin := plan.Request{
		Kind:        plan.CopyMachine,
		Machine:     "quay:ticketing",
		To:          "lighthouse",
		Destination: &plan.Place{Pool: "lamp-room"},
		Identity:    "keep",
		Start:       true,
	}
	testkit.Proven(t, s.Service, testkit.Begin(t, s.Service, twin).Id)
	m, err := s.Machine(t.Context(), "lighthouse", "ticketing")
	require.NoError(t, err)
	assert.Equal(t, standins.TicketingID, m.Uuid)
	_, err = s.StopMachine(t.Context(), "lighthouse", "ticketing", 10, false)
	require.NoError(t, err)
	require.NoError(t, s.ForgetMachine(t.Context(), "lighthouse", "ticketing"))

	other := plan.Request{
		Kind:        plan.MoveMachine,
		Machine:     "quay:ticketing",
		To:          "lighthouse",
		Destination: &plan.Place{Pool: "lamp-room", Path: "second"},
		Identity:    "new",
	}
	testkit.Proven(t, s.Service, testkit.Begin(t, s.Service, other).Id)
	m, err = s.Machine(t.Context(), "lighthouse", "ticketing")
	require.NoError(t, err)
	assert.NotEqual(t, standins.TicketingID, m.Uuid)
	assert.NotEqual(t, "52:54:00:00:00:01", m.Is.Networks[0].MAC)
}

// TestNetworksAreRemembered for a pair of hosts: what was chosen once is what the next machine gets, and that is said.
func TestNetworksAreRemembered(t *testing.T) {
	t.Parallel()
	s := start(t)
	quay := standins.Join(t, s.Service, "quay", "quay-store", standin.Traits{})
	standins.Join(t, s.Service, "lighthouse", "lamp-room", standin.Traits{Networks: []string{"pier"}})
	quay.Ticketing(t, bootable())
	cargoLedger(t, s, quay)
	move := func(name string) plan.Request {
		return plan.Request{Kind: plan.MoveMachine, Machine: "quay:" + name, To: "lighthouse", Destination: &plan.Place{Pool: "lamp-room"}}
	}
	first := move("ticketing")
	first.Networks = map[string]string{"quay": "pier"}
	p, err := s.Plan(t.Context(), move("cargo-ledger"))
	require.NoError(t, err)
	require.True(t, p.Blocked)
	testkit.Proven(t, s.Service, testkit.Begin(t, s.Service, first).Id)
	p, err = s.Plan(t.Context(), move("cargo-ledger"))
	require.NoError(t, err)
	require.False(t, p.Blocked, "%+v", p.Plan.Checks)
	assert.Contains(t, check(t, p.Plan, "network").Message, "from quay to pier, as it did the last time")
	assert.Equal(t, "pier", p.Plan.Machine.After.Networks[0].Network)
}

// TestAroundADisk that came alone, a machine is made by what is on it, with reasons, and comes up.
func TestAroundADisk(t *testing.T) {
	t.Parallel()
	if err := demo.CheckTools(); err != nil {
		t.Skip(err)
	}
	s := start(t)
	lighthouse := standins.Join(
		t,
		s.Service,
		"lighthouse",
		"lamp-room",
		standin.Traits{Networks: []string{"lamp-lan"}, Formats: []string{"raw"}},
	)
	_, err := demo.MakeDisk(t.Context(), lighthouse.Folder, "tide-board")
	require.NoError(t, err)
	p, err := s.ProposeMachine(t.Context(), "lighthouse", api.LoneDisk{Pool: "lamp-room", Path: "tide-board.raw"})
	require.NoError(t, err)
	assert.Equal(t, "tide-board uefi linux virtio lamp-lan",
		strings.Join([]string{p.Is.Name, p.Is.Firmware, p.Is.Guest, p.Is.Disks[0].Bus, p.Is.Networks[0].Network}, " "))
	assert.Contains(t, p.Reasons[0], "has an EFI system partition")
	r := testkit.Run(t, t.TempDir(), s.State, "machine", "add", "lighthouse", "lamp-room:tide-board.raw", "--name", "tides", "--yes")
	require.Zero(t, r.Code, r.Notes)
	assert.Contains(t, r.Out, "UEFI: the disk has an EFI system partition. It has boot code too")
	_, err = s.ProposeMachine(t.Context(), "lighthouse", api.LoneDisk{Pool: "lamp-room", Path: "tide-board.raw"})
	require.ErrorContains(t, err, "is one of lighthouse:tides already", "two would write to it")
	p.Definition = strings.Replace(p.Definition, "tide-board\"", "twin\"", 1)
	_, err = s.AddMachine(t.Context(), "lighthouse", api.NewMachine{File: p.File, Definition: p.Definition})
	require.ErrorContains(t, err, "is one of lighthouse:tides already")
	m, err := s.StartMachine(t.Context(), "lighthouse", "tides")
	require.NoError(t, err)
	assert.Equal(t, api.MachineStateRunning, m.State)
	seen, err := lighthouse.See(standin.Which{Name: "tides"})
	require.NoError(t, err)
	assert.True(t, seen.Up, seen.Console)

	require.NoError(t, os.WriteFile(filepath.Join(lighthouse.Folder, "x.qcow2"), []byte("QFI\xfb"), 0o600))
	for want, disk := range map[string]api.LoneDisk{
		"not found":      {Pool: "gone", Path: "x"},
		"opening x":      {Pool: "lamp-room", Path: "x.raw"},
		"opening x.qcow": {Pool: "lamp-room", Path: "x.qcow2"},
		"leads out":      {Pool: "lamp-room", Path: "../x"},
	} {
		_, err := s.ProposeMachine(t.Context(), "lighthouse", disk)
		require.ErrorContains(t, err, want)
	}
}
