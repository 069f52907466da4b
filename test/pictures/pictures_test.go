// Package pictures makes the pictures in docs/screenshots from the demo world (make pictures).
package pictures

import (
	"encoding/json"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"bagaglio/api"
	"bagaglio/core/plan"
	"bagaglio/core/routine"
	"bagaglio/internal/demo"
	"bagaglio/internal/standin"
	"bagaglio/internal/testkit"
	"bagaglio/internal/testkit/daemon"
	"bagaglio/internal/testkit/sshd"
	"bagaglio/internal/testkit/standins"

	"github.com/stretchr/testify/require"
)

func TestPictures(t *testing.T) {
	if os.Getenv("BAGAGLIO_PICTURES") == "" {
		t.Skip("pictures are made on request: make pictures")
	}
	t.Setenv("BAGAGLIO_WHO", "purser@quay")
	root, err := testkit.Root()
	require.NoError(t, err)
	to := filepath.Join(root, "docs", "screenshots")
	require.NoError(t, os.MkdirAll(to, 0o755))
	s := testkit.Start(t, filepath.Join(t.TempDir(), "state"))
	quay := pool(t, s, "local", "quay-store")
	pool(t, s, "local", "lighthouse-store")
	pool(t, s, "local", "seabag")
	for _, name := range []string{"ticketing", "crew-roster", "tide-board"} {
		_, err := demo.MakeDisk(t.Context(), quay, name)
		require.NoError(t, err)
		_, err = demo.Define(quay, name)
		require.NoError(t, err)
	}
	far(t, s)
	console(t, s, to)
	made := testkit.Run(
		t,
		"/",
		s.State,
		"convert",
		"quay-store:ticketing.raw",
		"lighthouse-store:ticketing-monday.qcow2",
		"--layout",
		"overlay",
		"--base",
		"lighthouse-store:ticketing.qcow2",
	)
	require.Zero(t, made.Code, made.Notes)
	terminal(t, s.State, to)
}

// captured has the drive of the gate kiosk on the page where it is captured.
func captured(t *testing.T, s *testkit.Service, p *testkit.Page) {
	drive, err := demo.MakeKiosk(t.Context(), t.TempDir())
	require.NoError(t, err)
	device, err := demo.Attach(t.Context(), drive)
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, demo.Detach(device)) })
	request := `{"kind":"convert","as":"qcow2","used_only":true,"without":["4"],"size":99614720,"source":{"pool":"local:/dev","path":"` + filepath.Base(
		device,
	) +
		`"},"destination":{"pool":"lighthouse-store","path":"gate-kiosk.qcow2"}}`
	p.Open(s.Address + "/devices/capture?device=local:" + device + "&request=" + url.QueryEscape(request))
	p.AwaitText("is left out, and reads as zeros")
}

// pool adds a folder of the demo world, and returns it. Its path is seen on the pictures.
func pool(t *testing.T, s *testkit.Service, host, name string) string {
	folder := filepath.Join(os.TempDir(), "isola-ferries", name)
	require.NoError(t, os.RemoveAll(folder))
	require.NoError(t, os.MkdirAll(folder, 0o755))
	t.Cleanup(func() { require.NoError(t, os.RemoveAll(folder)) })
	_, err := s.AddPool(t.Context(), api.NewPool{Name: name, Host: &host, Folder: folder})
	require.NoError(t, err)
	return folder
}

// far adds the lighthouse as a host with SSH, and a pool there.
func far(t *testing.T, s *testkit.Service) {
	server := sshd.Start(t)
	key, user, host := string(server.Key), server.User, "lighthouse"
	_, err := s.AddHost(t.Context(), api.NewHost{
		Name: host, Kind: api.NewHostKindSftp, Address: server.Address, User: &user, TrustedKey: &server.HostKey, Login: &api.Secrets{Key: &key},
	})
	require.NoError(t, err)
	pool(t, s, host, "lamp-room")
	rules := plan.Rules{
		Traits: []string{"dynamic-only", "names-by-uuid", "whole-mebibytes"}, Name: "UUIDEXT", Granularity: 1 << 20, LargestDisk: 2040 << 30,
		Accepts: []plan.Accepted{{Format: "vhd", Layouts: []string{"dynamic", "differencing"}}},
	}
	_, err = s.ChangePool(t.Context(), "lamp-room", api.PoolChange{Rules: rules})
	require.NoError(t, err)
}

// files shows those of a pool: a folder, disks with their tags, and an installer that was brought.
func files(t *testing.T, s *testkit.Service, p *testkit.Page) {
	require.NoError(t, s.MakeFolder(t.Context(), "lighthouse-store", "papers"))
	installer := filepath.Join(t.TempDir(), "installer.iso")
	testkit.Noise(t, installer, 9<<20)
	p.Open(s.Address + "/pool?name=lighthouse-store")
	p.Upload(installer)
	p.Click("SHA-256 of installer.iso")
	p.Await(`document.querySelector("output")`)
	testkit.Eval[bool](p, `(document.querySelector("[aria-label=Files]").scrollIntoView(), true)`)
}

func console(t *testing.T, s *testkit.Service, to string) {
	p := testkit.Browse(t, 1280, 800)
	shot := func(name string) { p.Picture(filepath.Join(to, name+".png")) }
	p.Open(s.Link)
	p.Click("Places")
	p.AwaitText("crew-roster.raw")
	p.AwaitText("ticketing.raw")
	shot("console-places")
	p.Fill("Move ticketing.raw to", "lamp-room")
	p.AwaitText("lists only files named")
	p.Click("Places")
	p.AwaitText("ticketing.raw")
	p.Click("ticketing.raw")
	p.AwaitText("EFI system")
	shot("console-disk")
	captured(t, s, p)
	shot("console-capture")
	p.Open(s.Address + "/disk?pool=quay-store&path=ticketing.raw")
	p.Click("Convert")
	p.Fill("Pool of the new image", "lighthouse-store")
	p.Fill("Name", "ticketing.vhd")
	p.AwaitText("claims vhd")
	shot("console-compose-blocked")
	p.Click("Write to ticketing.qcow2")
	p.Await(`[...document.querySelectorAll("button")].some(b => b.textContent.trim() === "Start" && !b.disabled)`)
	shot("console-compose")
	p.Click("Start")
	p.AwaitText("Proven: what arrived")
	shot("console-job")
	slow, err := s.Plan(t.Context(), plan.Request{
		Kind:        plan.Convert,
		Source:      plan.Place{Pool: "quay-store", Path: "ticketing.raw"},
		Destination: &plan.Place{Pool: "seabag", Path: "ticketing.vhdx"},
		As:          "vhdx",
	})
	require.NoError(t, err)
	speed := int64(5 << 20)
	j, err := s.Start(t.Context(), api.NewJob{Plan: slow.Id, Speed: &speed})
	require.NoError(t, err)
	p.Open(s.Address + "/jobs/" + j.Id)
	p.AwaitText("over 4 s")
	shot("console-job-running")
	wrong := testkit.Begin(t, s.Service, plan.Request{
		Kind: plan.Prove, Source: plan.Place{Pool: "quay-store", Path: "crew-roster.raw"}, Against: "bf1-" + strings.Repeat("2247", 16),
	})
	testkit.Await(t, s.Service, wrong.Id)
	p.Click("Now")
	p.AwaitText("failed")
	p.AwaitText(" left")
	p.AwaitText("Since you last looked")
	shot("console-now")
	replace, err := s.Plan(t.Context(), plan.Request{
		Kind:        plan.Convert,
		Source:      plan.Place{Pool: "quay-store", Path: "crew-roster.raw"},
		Destination: &plan.Place{Pool: "lighthouse-store", Path: "ticketing.qcow2"},
		As:          "qcow2",
		Replace:     true,
	})
	require.NoError(t, err)
	other, err := s.Start(t.Context(), api.NewJob{Plan: replace.Id})
	require.NoError(t, err)
	for _, err := range s.Follow(t.Context(), other.Id) {
		require.NoError(t, err)
	}
	p.Click("Receipts")
	p.AwaitText("in an unbroken chain")
	p.AwaitText("crew-roster")
	shot("console-receipts")
	_, err = s.PutRoutine(t.Context(), routine.Routine{
		Name:     "monthly-proof",
		Note:     "Each disk that has a tag is read and compared with it.",
		Blanks:   map[string]string{"pool": "lighthouse-store"},
		Each:     &routine.Each{DisksOf: "<pool>", Tagged: true},
		Requests: []json.RawMessage{[]byte(`{"kind": "prove", "source": {"pool": "<pool>", "path": "<path>"}, "tag": "beside"}`)},
		LeaveOut: true,
		Times:    &routine.Times{Cron: "30 2 1 * *"},
	})
	require.NoError(t, err)
	_, err = s.RunRoutine(t.Context(), "monthly-proof", api.NewRun{})
	require.NoError(t, err)
	p.Open(s.Address + "/routines")
	p.AwaitText("group 1")
	shot("console-routines")
	files(t, s, p)
	shot("console-files")
	held, err := s.Held(t.Context())
	require.NoError(t, err)
	_, err = s.Restore(t.Context(), "lighthouse-store", held[0].Id, true)
	require.NoError(t, err)
	machines(t, s, p, daemon.Start(t))
	require.NoError(t, s.RemovePool(t.Context(), "guests"))
	p.Click("Dark colours")
	p.Click("Places")
	p.AwaitText("ticketing.qcow2")
	p.Click("Drain or spread")
	p.Fill("Work", "drain")
	p.Fill("Empty the pool", "quay-store")
	p.AwaitText("as one group")
	shot("console-balance-dark")
	p.Click("Light colours")
	moved := testkit.Begin(t, s.Service, plan.Request{
		Kind:        plan.Convert,
		Source:      plan.Place{Pool: "quay-store", Path: "tide-board.raw"},
		Destination: &plan.Place{Pool: "lighthouse-store", Path: "tide-board.qcow2"},
		As:          "qcow2",
		Release:     true,
	})
	testkit.Proven(t, s.Service, moved.Id)
	p.Open(s.Address + "/jobs/" + moved.Id + "/undo")
	p.AwaitText("the one that the job made")
	round(t, s, p, shot)
}

// round moves a machine that runs: the plan beside what is asked for, and what was seen of it in its new place.
func round(t *testing.T, s *testkit.Service, p *testkit.Page, shot func(string)) {
	at := func(name string) string { return pool(t, s, "local", name) }
	quay := standins.JoinAt(t, s.Service, "quay", "harbour", at("harbour-disks"), standin.Traits{})
	standins.JoinAt(t, s.Service, "breakwater", "beacon", at("beacon-disks"), standin.Traits{Folders: true})
	for _, name := range []string{"harbour-disks", "beacon-disks"} {
		require.NoError(t, s.RemovePool(t.Context(), name)) // only their hosts have them
	}
	quay.Ticketing(t, append(daemon.Boot(true), make([]byte, 64<<20)...))
	_, err := s.StartMachine(t.Context(), "quay", "ticketing")
	require.NoError(t, err)
	request := `{"kind":"move-machine","machine":"quay:ticketing","to":"breakwater","destination":{"pool":"beacon","path":""},"as":"qcow2",` +
		`"stop":true,"start":true}`
	p.Open(s.Address + "/machines/move?request=" + url.QueryEscape(request))
	p.AwaitText("What becomes different")
	shot("console-machine-move")
	p.Click("Start")
	p.AwaitText("It was seen to come up")
	for name, notes := range map[string]string{"before-the-season": "As the last crew left it.", "first-sailing": ""} {
		taken := testkit.Begin(t, s.Service, plan.Request{
			Kind: plan.TakeSnapshot, Machine: "breakwater:ticketing", Snapshot: name, Notes: notes,
		})
		testkit.Await(t, s.Service, taken.Id)
	}
	p.Open(s.Address + "/machines/breakwater/ticketing")
	p.AwaitText("Job")
	p.AwaitText("first-sailing")
	p.Await(`[...document.querySelectorAll("section[aria-label=Screen] img")].some((i) => i.naturalWidth > 100)`)
	shot("console-machine")
}

// machines shows machines of a host, one of which runs.
func machines(t *testing.T, s *testkit.Service, p *testkit.Page, guests *daemon.Daemon) {
	for _, name := range []string{"cargo-ledger", "crew-roster", "ticketing", "tide-board"} {
		guests.Guest(t, name, true)
	}
	_, err := s.AddPool(t.Context(), api.NewPool{Name: "guests", Folder: guests.Dir})
	require.NoError(t, err)
	runs := "libvirt"
	_, err = s.ChangeHost(t.Context(), "local", api.HostChange{Runs: &runs, Socket: &guests.Socket})
	require.NoError(t, err)
	_, err = s.StartMachine(t.Context(), "local", "ticketing")
	require.NoError(t, err)
	p.Click("Machines")
	p.AwaitText("running")
}

// terminal captures what the client prints in a terminal window.
func terminal(t *testing.T, state, to string) {
	for name, command := range map[string]string{
		"client-look":    "bagaglio look quay-store:ticketing.raw",
		"client-machine": "bagaglio machine snapshot list breakwater:ticketing; bagaglio group survey --machines-of breakwater --each kind=copy-machine --each to=quay --each destination.pool=harbour --each name=ticketing-trial --each suspend=true; bagaglio machine pack breakwater:ticketing seabag:ticketing.ova --suspend --plan",
		"client-convert": "bagaglio convert quay-store:crew-roster.raw seabag:crew-roster.vhd --yes",
		"client-move":    "bagaglio move quay-store:crew-roster.raw lamp-room:crew-roster.raw --plan; bagaglio move quay-store:crew-roster.raw seabag:rosters/crew-roster.raw --plan",
		"client-lists":   "bagaglio host list; bagaglio pool list; bagaglio pool show lamp-room; bagaglio pool disks lighthouse-store; bagaglio job list",
	} {
		script := "cd /; PATH=" + filepath.Dir(
			testkit.Binary(t),
		) + ":$PATH; export BAGAGLIO_STATE=" + state + "; clear; echo '$ " + command + "'; " + command +
			"; touch " + filepath.Join(
			state,
			name,
		) + "; sleep 60"
		capture := `xterm -b 10 -bw 0 -geometry 158x52 -fa "DejaVu Sans Mono" -fs 9 -bg "#f7f5ee" -fg "#1d2b33" -e sh -c "$SCRIPT" & X=$!
			while ! test -e "$DONE"; do sleep 0.1; done; sleep 0.5; import -window root "$PICTURE" && mogrify -trim +repage -bordercolor "#f7f5ee" -border 12 "$PICTURE"; kill $X`
		cmd := exec.CommandContext(t.Context(), "xvfb-run", "-a", "-s", "-screen 0 1280x800x24", "sh", "-c", capture)
		cmd.Env = append(os.Environ(), "SCRIPT="+script, "DONE="+filepath.Join(state, name), "PICTURE="+filepath.Join(to, name+".png"))
		out, err := cmd.CombinedOutput()
		require.NoError(t, err, "%s", out)
	}
}
