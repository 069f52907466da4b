package cli

import (
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"bagaglio/core/host"
	"bagaglio/core/machine"
	"bagaglio/core/machine/own"
	"bagaglio/internal/demo"
	"bagaglio/internal/standin"
	"bagaglio/internal/testkit"
	"bagaglio/internal/testkit/fewer"
	"bagaglio/internal/testkit/standins"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// isola is the world that documents speak of: its hosts, pools, disks, machines and jobs have the names that commands in them use.
type isola struct {
	t      *testing.T
	s      *testkit.Service
	dir    string                    // that commands are run in
	at     map[string]string         // the folders of pools
	hosts  map[string]*standins.Host // of machines
	really *strings.Replacer         // what a document calls something, and what it is here
}

// contents are the disks of that world, by what is on them.
var contents = map[string][]string{
	"ticketing": {"./ticketing.raw", "./monday.raw", "quay-store:ticketing.raw", "quay-store:ticketing.vmdk", "quay-store:ticketing.qcow2"},
	"kiosk":     {"quay-store:gate-kiosk.qcow2"},
	"small": {
		"quay-store:old/ticketing.vmdk",
		"quay-store:crew-roster.raw",
		"quay-store:a.raw",
		"quay-store:b.raw",
		"quay-store:base.qcow2",
		"harbour:spare.qcow2",
		"harbour:spare.raw",
		"quay-store:monday.qcow2",
		"./gate-kiosk.vhdx",
		"seabag:gate-kiosk.vhdx",
		"lamp-room:gate-kiosk.qcow2",
		"harbour:tide-board/tide-board.vmdk",
		"harbour:arrived/tides.vmdk",
		"harbour:arrived/system.vmdk",
		"harbour:ticketing.raw",
		"harbour:crew-roster.raw",
		"harbour:cargo-ledger.raw",
		"harbour:crates.raw",
		"lamp-room:ticketing.raw",
		"lamp-room:tide-board.raw",
	},
}

// elsewhere are commands that take what this world has not, and what runs them.
var elsewhere = map[string]*regexp.Regexp{
	"the service runs, and every test runs it": regexp.MustCompile(`bagaglio serve`),
	"a daemon of its own: test/service":        regexp.MustCompile(`libvirt|--machines tls:|--runs ""`),
	"volumes: core/storage/volumes":            regexp.MustCompile(`--volumes`),
	"the first line of a map, not a command":   regexp.MustCompile(`bagaglio map 1`),
	"disks with serial numbers, also of other computers: test/service": regexp.MustCompile(
		`write-back|lighthouse:/dev/sda|device list lighthouse`,
	),
	"runs until it is interrupted: TestServingByTheClient": regexp.MustCompile(`disk serve`),
	"a stand-in as a program: internal/standin":            regexp.MustCompile(`127.0.0.1:2280|\$PWD`),
	"what a move has left: test/service":                   regexp.MustCompile(`machine compare lighthouse`),
	"a computer elsewhere that joins: test/service": regexp.MustCompile(
		`bagaglio porter --|pool (un)?reach|--by beacon|recovery check`,
	),
	"jobs that ask: test/service": regexp.MustCompile(`job answer|group answer|job show 7`),
}

// really are commands that are not only planned, since others need what they make.
var really = regexp.MustCompile(
	`pool add|channel add|report --since 30d --signed|job undo 11|bagaglio convert|crew-roster-trial --linked|snapshot take quay|machine pack quay:tide-board seabag:tide-board.ova|machine copy quay:ticketing --pool seabag|spare.machine.yaml|pool spread`,
)

func newIsola(t *testing.T) *isola {
	w := &isola{
		t:     t,
		s:     testkit.Start(t, filepath.Join(t.TempDir(), "state")),
		dir:   t.TempDir(),
		at:    map[string]string{},
		hosts: map[string]*standins.Host{},
	}
	for _, pool := range []string{"quay-store", "lighthouse-store", "seabag"} {
		w.at[pool] = w.s.Pool(pool)
	}
	for on, pool := range map[string]string{"quay": "harbour", "lighthouse": "lamp-room"} {
		w.hosts[on] = standins.Join(t, w.s.Service, on, pool, standin.Traits{Layers: true, Commands: true})
		w.at[pool] = w.hosts[on].Folder
	}
	made := t.TempDir()
	for of, make := range map[string]func() (string, error){
		"ticketing": func() (string, error) { return demo.MakeDisk(t.Context(), made, "ticketing") },
		"kiosk":     func() (string, error) { return demo.MakeKiosk(t.Context(), made) },
		"small": func() (string, error) {
			return filepath.Join(made, "small.raw"), os.WriteFile(filepath.Join(made, "small.raw"), standins.Boots(3<<20), 0o600)
		},
	} {
		raw, err := make()
		require.NoError(t, err)
		for _, place := range contents[of] {
			w.put(place, raw)
		}
	}
	return w
}

// put has a disk at a place, with a tag.
func (w *isola) put(place, raw string) {
	pool, name, inPool := strings.Cut(place, ":")
	to := filepath.Join(w.dir, place)
	if inPool {
		to = filepath.Join(w.at[pool], name)
	}
	require.NoError(w.t, os.MkdirAll(filepath.Dir(to), 0o755))
	w.run("convert", raw, to)
}

func (w *isola) run(args ...string) testkit.Result {
	w.t.Helper()
	r := testkit.Run(w.t, w.dir, w.s.State, args...)
	require.Zero(w.t, r.Code, "%v: %s%s", args, r.Out, r.Notes)
	return r
}

// define makes a machine known to a host, and starts it if that is wanted.
func (w *isola) define(on, name string, runs bool, files ...string) {
	m := machine.Machine{
		Name: name, UUID: fmt.Sprintf("8d1b62c4-5a0f-4c0e-8a43-%012x", len(name)+100*len(files)), Memory: 64 << 20,
		Processors: machine.Processors{Count: 1}, Firmware: machine.BIOS,
	}
	for i, file := range files {
		m.Disks = append(m.Disks, machine.Disk{
			File: filepath.Join(
				w.hosts[on].Folder,
				file,
			),
			Format: strings.TrimPrefix(filepath.Ext(file), "."),
			Bus:    "scsi",
			Slot:   []string{"sda", "sdb"}[i],
			Boot:   1 - i,
		})
	}
	text, err := machine.Become(nil, "", own.Name, m)
	require.NoError(w.t, err)
	_, err = w.hosts[on].Define(text)
	require.NoError(w.t, err)
	if runs {
		w.run("machine", "start", on+":"+name)
	}
}

// fill adds machines, jobs, files, and who is told.
func (w *isola) fill(documents string) {
	w.define("quay", "tide-board", false, "tide-board/tide-board.vmdk")
	w.define("quay", "crew-roster", false, "crew-roster.raw")
	w.define("quay", "cargo-ledger", false, "cargo-ledger.raw", "crates.raw")
	for job := range 12 {
		args := []string{"convert", "seabag:gate-kiosk.vhdx", fmt.Sprintf("seabag:night/%d.raw", job+1), "--detach"}
		if waits := job == 1 || job == 8 || job == 11; waits {
			args = append(args, "--hours", "03:00-03:01")
		}
		w.run(args...)
	}
	w.put("lighthouse-store:ticketing.qcow2", filepath.Join(w.dir, "monday.raw"))
	gallery := filepath.Join(w.at["lamp-room"], "gallery")
	require.NoError(w.t, os.Mkdir(gallery, 0o755))
	attic := filepath.Join(w.at["lamp-room"], "attic")
	require.NoError(w.t, os.Mkdir(attic, 0o755))
	w.run("pool", "add", "gallery", gallery, "--host", "lighthouse")

	testkit.Join(w.t, w.s, "annex")
	annex := w.t.TempDir()
	w.run("convert", filepath.Join(w.at["quay-store"], "a.raw"), filepath.Join(annex, "ticketing.raw"))

	night := `{kind: prove, source: {pool: quay-store, path: a.raw}, tag: beside}`
	for name, text := range map[string]string{
		"monthly-proof.yaml": block(w.t, documents, "name: monthly-proof"), "weekend.yaml": block(w.t, documents, "name: the weekend of the move"),
		"night.yaml": night, "spare.machine.yaml": standins.Definition("spare", standins.TicketingID, filepath.Join(w.at["harbour"], "spare.raw"), "raw"),
		"installer.iso": "isola", "login": w.hosts["quay"].Key,
	} {
		require.NoError(w.t, os.WriteFile(filepath.Join(w.dir, name), []byte(text), 0o600))
	}
	w.run("routine", "put", "monthly-proof.yaml")
	w.run("routine", "run", "monthly-proof") // group 1
	key, err := os.ReadFile(filepath.Join(w.s.State, "receipts.jwk"))
	require.NoError(w.t, err)
	require.NoError(w.t, os.WriteFile(filepath.Join(w.at["seabag"], "receipts.jwk"), key, 0o600))
	out, err := exec.CommandContext(w.t.Context(), "gzip", "--keep", filepath.Join(w.dir, "ticketing.raw")).CombinedOutput()
	require.NoError(w.t, err, string(out))
	bell := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) {}))
	w.t.Cleanup(bell.Close)
	w.really = strings.NewReplacer(
		"bin/bagaglio",
		"bagaglio",
		"~/.ssh/id_ed25519",
		filepath.Join(w.dir, "login"),
		"https://bell.example/bagaglio",
		bell.URL,
		"/media/seabag",
		w.at["seabag"],
		"/dev/sdb",
		w.drive(),
		"80G",
		"120M",
		"200G",
		"200M",
		"2040G",
		"2G",
		"local:ticketing",
		"quay:ticketing",
		"local:spare",
		"quay:spare",
		"machine add local quay-store:",
		"machine add quay harbour:",
		"machine add local",
		"machine add quay",
		"compare local:ticketing lighthouse:ticketing",
		"compare quay:ticketing lighthouse:tide-board",
		"quay-store:gate-kiosk.qcow2 --without",
		"quay-store:taken.qcow2 --without",
		".001 ./ticketing.raw",
		".001 ./joined.raw",
		"invite annex >", "invite buoy >", "/srv/annex", annex, "held clear lighthouse-store",
		"held clear --yes lighthouse-store",
		"cancel 12",
		"cancel 2",
		"undo 12",
		"undo 11",
		"again 12",
		"again 11",
		"pool add lamp-room /srv/lamp-room",
		"pool add lamp-attic "+attic,
		"pool rules lamp-room",
		"pool rules lamp-attic",
		"/srv/quay",
		w.at["quay-store"],
		"/srv/lighthouse",
		w.at["lighthouse-store"],
		"/srv/lamp-room",
		w.at["lamp-room"],
		"host add lighthouse 192.0.2.7",
		"host add lighthouse-too "+w.hosts["lighthouse"].Files+" --key-is "+w.hosts["lighthouse"].HostKey,
	)
}

// block is the code of a document that begins with a line.
func block(t *testing.T, documents, line string) string {
	_, text, has := strings.Cut(documents, "\n    "+line+"\n")
	require.True(t, has, line)
	text, _, _ = strings.Cut(text, "\n\n")
	return line + "\n" + strings.ReplaceAll("\n"+text, "\n    ", "\n")
}

// drive is the drive of the gate kiosk, as a disk of this computer.
func (w *isola) drive() string {
	file, err := demo.MakeKiosk(w.t.Context(), w.t.TempDir())
	require.NoError(w.t, err)
	device, err := demo.Attach(w.t.Context(), file)
	if err != nil {
		w.t.Skipf("no disk can be made of a file here: %v", err)
	}
	w.t.Cleanup(func() { assert.NoError(w.t, demo.Detach(device)) })
	return device
}

// prepare has ticketing where a line wants it, running if that is what it is about, and something held.
func (w *isola) prepare(line string) string {
	for _, name := range []string{"ticketing", "tide-board"} {
		for _, on := range []string{"quay", "lighthouse"} {
			if strings.Contains(line, on+":"+name) {
				w.move(on, name, line)
			}
		}
	}
	if add := regexp.MustCompile(`(pool|host|channel|person) add (\S+) `).FindStringSubmatch(line); add != nil {
		testkit.Run(w.t, w.dir, w.s.State, add[1], "remove", add[2]) // another document may have added it
	}
	for _, made := range []string{"hostname", "screen.png", "kiosk.png"} {
		require.NoError(w.t, os.RemoveAll(filepath.Join(w.dir, made)))
	}
	for again, made := range map[string]string{
		"copy quay:ticketing --pool seabag": "seabag:ticketing", "pack quay:tide-board seabag:tide-board.ova": "seabag:tide-board.ova",
		"convert - quay-store:ticketing.qcow2": "quay-store:ticketing.qcow2", "convert quay-store:ticketing.vmdk seabag:": "seabag:ticketing.raw.001",
	} {
		if pool, name, _ := strings.Cut(made, ":"); strings.Contains(line, again) {
			require.NoError(w.t, os.RemoveAll(filepath.Join(w.at[pool], name)))
		}
	}
	if strings.Contains(line, "quay:crew-roster") {
		require.NoError(w.t, w.hosts["quay"].Forget(standin.Which{Name: "crew-roster"}))
		w.define("quay", "crew-roster", false, "crew-roster.raw")
		if regexp.MustCompile("--snapshot|go-back|drop").MatchString(line) {
			w.run("machine", "snapshot", "take", "quay:crew-roster", "before-the-season")
		}
	}
	if strings.Contains(line, "1f0c9a2e") {
		require.NoError(w.t, os.RemoveAll(filepath.Join(w.at["lighthouse-store"], "gone.raw")))
		w.put("lighthouse-store:gone.raw", filepath.Join(w.at["quay-store"], "a.raw"))
		w.run("held", "clear", "lighthouse-store", "--yes")
		w.run("remove", "lighthouse-store:gone.raw")
		id := regexp.MustCompile(`(?m)^lighthouse-store +(\S+) +gone`).FindStringSubmatch(w.run("held", "list").Out)
		require.NotNil(w.t, id)
		line = strings.ReplaceAll(line, "1f0c9a2e", id[1])
	}
	return line
}

// move has a machine on a host alone, running where a line does something with it meanwhile.
func (w *isola) move(to, name, line string) {
	for from, h := range w.hosts {
		for _, m := range h.List() {
			if m.Name != name {
				continue
			}
			if m.State != host.Off {
				w.run("machine", "stop", from+":"+name, "--cut-off")
			}
			require.NoError(w.t, h.Forget(standin.Which{Name: name}))
		}
	}
	file := name + ".raw"
	if to == "quay" && name == "tide-board" {
		file = "tide-board/tide-board.vmdk"
	}
	w.define(to, name, regexp.MustCompile(`--live|keep|--suspend| stop |screen`).MatchString(line), file)
}

// wrapper stands before the client: what has a plan is only planned, where a test wants that, and what fails is told.
const wrapper = `#!/bin/sh
case "$*" in *--plan*) PLANNED= ;; esac
if [ -n "$PLANNED" ] && "$CLIENT" "$@" --help | grep -q -- ' --plan '; then set -- "$@" --plan; fi
"$CLIENT" "$@"
code=$?
[ "$1 $2" = "machine check" ] && code=0 # its answer
[ $code = 0 ] || echo "exit $code: bagaglio $*" >> "$FAILED"
exit $code
`

// shell runs a line as a technician does who copies it.
func (w *isola) shell(line string, planned bool) {
	bin := w.t.TempDir()
	require.NoError(w.t, os.WriteFile(filepath.Join(bin, "bagaglio"), []byte(wrapper), 0o755))
	cmd := exec.CommandContext(
		w.t.Context(),
		"timeout",
		"60",
		"sh",
		"-c",
		regexp.MustCompile(` {3,}bagaglio`).ReplaceAllString(line, "; bagaglio"),
	)
	cmd.Dir, cmd.Stdin = w.dir, strings.NewReader("when the tide comes in\n")
	failed := filepath.Join(bin, "failed")
	cmd.Env = append(
		os.Environ(),
		"PATH="+bin+":"+os.Getenv("PATH"),
		"CLIENT="+testkit.Binary(w.t),
		"FAILED="+failed,
		"BAGAGLIO_STATE="+w.s.State,
	)
	if planned {
		cmd.Env = append(cmd.Env, "PLANNED=1")
	}
	out, err := cmd.CombinedOutput()
	assert.NoError(w.t, err, "%s: %s", line, out)
	assert.NoFileExists(w.t, failed, "%s: %s", line, out)
}

var shown = regexp.MustCompile(`(?m)^    ((?:bin/)?bagaglio .*|.*\| bagaglio .*)$`)

// TestFirstSteps does all that the document of that name shows.
func TestFirstSteps(t *testing.T) {
	t.Parallel()
	w := newIsola(t)
	w.run("pool", "remove", "quay-store")
	w.run("pool", "remove", "lighthouse-store")
	w.really = strings.NewReplacer("/srv/quay", w.at["quay-store"], "/srv/lighthouse", w.at["lighthouse-store"])
	text, err := os.ReadFile("../../docs/first-steps.md")
	require.NoError(t, err)
	for _, line := range shown.FindAllStringSubmatch(string(text), -1) {
		w.shell(w.really.Replace(line[1]), false)
	}
}

// TestWhatDocumentsShow runs each command that a document shows, in the world of the documents and in its turn.
func TestWhatDocumentsShow(t *testing.T) {
	t.Parallel()
	names := []string{
		"docs/scale.md",
		"docs/live.md",
		"docs/machines.md",
		"docs/hosts.md",
		"docs/devices.md",
		"docs/jobs.md",
		"docs/disaster.md",
		"docs/places.md",
		"docs/fit.md",
	}
	texts, all := map[string]string{}, ""
	for _, name := range append(names, "README.md") {
		text, err := os.ReadFile(filepath.Join("../..", name))
		require.NoError(t, err)
		texts[name] = string(text)
		all += string(text)
	}
	w := newIsola(t)
	w.fill(all)
	for _, name := range append([]string{"README.md"}, fewer.Of(t, 1, names)...) { // that one makes what others speak of
		n := 0
		first, by := fewer.Stride(t, 3)
	lines:
		for i, line := range shown.FindAllStringSubmatch(texts[name], -1) {
			for _, not := range elsewhere {
				if not.MatchString(line[1]) {
					continue lines
				}
			}
			run := w.really.Replace(line[1])
			if needed := really.MatchString(run); needed || i%by == first {
				n++
				w.shell(w.prepare(run), !needed)
			}
		}
		assert.NotZero(t, n, name)
	}
}
