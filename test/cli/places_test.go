package cli

import (
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"bagaglio/internal/testkit"
	"bagaglio/internal/testkit/sshd"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// step is a command with what is to come of it.
type step struct {
	args string
	code int
	says string // on standard output or error
}

func walk(t *testing.T, dir, state string, steps []step) {
	t.Helper()
	for _, s := range steps {
		r := testkit.Run(t, dir, state, strings.Fields(s.args)...)
		require.Equal(t, s.code, r.Code, "%s\n%s%s", s.args, r.Out, r.Notes)
		require.Contains(t, r.Out+r.Notes, s.says, s.args)
	}
}

// TestPlacesFromTheCommandLine: a host is trusted, pools get rules, disks are copied, moved, compacted and carried about.
func TestPlacesFromTheCommandLine(t *testing.T) {
	t.Parallel()
	server := sshd.Start(t)
	state := filepath.Join(t.TempDir(), "state")
	testkit.Start(t, state)
	dir, quay, far := t.TempDir(), t.TempDir(), t.TempDir()
	disk(t, filepath.Join(quay, "ticketing.raw"), 4<<20)
	disk(t, filepath.Join(quay, "crew-roster.raw"), 4<<20)
	require.NoError(t, os.WriteFile(filepath.Join(quay, "notes.txt"), nil, 0o600))
	require.NoError(t, os.Mkdir(filepath.Join(quay, "harbour"), 0o700))
	require.NoError(
		t,
		os.WriteFile(
			filepath.Join(quay, "harbour/clock.vmx"),
			[]byte("displayName = \"harbour-clock\"\nide0:0.fileName = \"../crew-roster.raw\""),
			0o600,
		),
	)
	for i := range 1005 { // more than one answer holds
		require.NoError(t, os.WriteFile(filepath.Join(quay, fmt.Sprintf("spool-%04d.log", i)), nil, 0o600))
	}
	walk(t, dir, state, []step{
		{"host add lighthouse " + server.Address + " --user " + server.User + " --key " + server.KeyFile, 0, server.HostKey},
		{"host list", 0, "bagaglio host trust lighthouse"},
		{"pool add lamp-room " + far + " --host lighthouse", 1, "not trusted yet"},
		{"host trust lighthouse", 1, "It is not trusted yet"},
		{"host trust lighthouse SHA256:no", 1, "is not the one that was trusted"},
		{"host trust lighthouse " + server.HostKey, 0, "is trusted"},
		{"host test lighthouse", 0, "log in"},
		{"host add pier pier.example --user x --password secret", 2, "everybody on this computer can read it"},
		{"host change lighthouse", 2, "say what is to change"},
		{"pool add lamp-room " + far + " --host lighthouse --trait names-by-uuid,dynamic-only,whole-mebibytes --accept vhd", 0, "free"},
		{"pool add quay-store " + quay, 0, "free"},
		{"pool add nowhere " + quay + " --trait nothing", 2, "combine some of names-by-uuid"},
		{"pool test lamp-room", 0, "nothing of the trial is left"},
		{"pool show lamp-room", 0, "UUIDEXT"},
		{"pool rules lamp-room", 0, "names-by-uuid: it lists only files that are named by a UUID"},
		{"pool list", 0, "dynamic-only, names-by-uuid, whole-mebibytes"},
		{"pool rules quay-store --trait flat-only,dynamic-only", 2, "nothing is accepted by all of"},
		{"copy quay-store:ticketing.raw lamp-room:", 3, "Convert to vhd, dynamic (--as vhd --layout dynamic, to lamp-room:"},
		{"copy quay-store:ticketing.raw lamp-room:", 3, "All that the rules ask for is done with --by-rules"},
		{"copy quay-store:ticketing.raw quay-store:nothing.raw quay-store:crew-roster.raw lamp-room:", 3, "quay-store:crew-roster.raw"},
		{"copy quay-store:ticketing.raw quay-store:crew-roster.raw lamp-room: --by-rules", 0, "PROVEN"},
		{"convert quay-store:ticketing.raw lamp-room: --as vhd", 3, "lists only files named UUIDEXT"},
		{"convert quay-store:ticketing.raw lamp-room:", 2, "say which format"},
		{"convert quay-store:ticketing.raw lamp-room: --as vhd --by-rules", 0, "PROVEN"},
		{"pool rules lamp-room --names x", 2, "NAME or UUID"},
		{"pool rules lamp-room --trait= --mode 0640", 0, "mode"},
		{"copy quay-store:ticketing.raw quay-store:crew-roster.raw lamp-room:", 0, "took with its own tool"},
		{"copy quay-store:ticketing.raw quay-store:crew-roster.raw lamp-room:one.raw", 2, "several disks go to a folder"},
		{"move quay-store:ticketing.raw quay-store:harbour/tickets.raw", 0, "nothing was copied"},
		{"move lamp-room:ticketing.raw quay-store: --as vhd", 0, "PROVEN"},
		{"held list", 0, "moved to quay-store:ticketing.vhd by job"},
		{"held clear lamp-room --yes", 0, "Removed"},
		{"compact quay-store:crew-roster.raw", 0, "no room would be won"},
		{"pool disks quay-store --search tick --files", 0, "harbour/tickets.raw"},
		{"pool disks quay-store --only overlays", 0, "DISK"},
		{"pool orphans quay-store", 0, "notes.txt"},
		{"pool orphans quay-store", 0, "spool-1004.log"},
		{"move quay-store:crew-roster.raw quay-store:deck/crew-roster.raw --plan", 0, "will name the disk in its new place"},
		{
			"move quay-store:crew-roster.raw quay-store:deck/crew-roster.raw --plan --leave-definitions",
			0,
			"deck/crew-roster.raw there before it is started again",
		},
		{"pool orphans quay-store", 0, "no machine that is known uses it"},
		{"pool orphans quay-store", 0, "it lies in the folder of harbour-clock, which does not use it"},
		{"pool disks quay-store --search tickets --only orphans", 0, "it lies in the folder of harbour-clock"},
		{"pool drain quay-store lamp-room --plan", 0, "FREE AFTER"},
		{"pool drain quay-store lamp-room --plan", 0, "lamp-room has another file of that name"},
		{"move lamp-room:crew-roster.raw lamp-room:roster-copy.raw", 0, "nothing was copied"},
		{"pool drain quay-store lamp-room --plan", 0, "Disks of harbour-clock go to another host"},
		{"pool drain quay-store lamp-room --yes --wait", 0, "the machine has to go there too"},
		{"group list", 0, "GROUP"},
		{"group show 1", 0, "crew-roster.raw: The definition of harbour-clock"},
		{"host remove lighthouse", 1, "forget it first"},
		{"pool remove lamp-room", 0, "forgotten"},
		{"host remove lighthouse", 0, "forgotten"},
	})
	info, err := os.Stat(filepath.Join(far, "crew-roster.raw"))
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o640), info.Mode().Perm())
	assert.NoFileExists(t, filepath.Join(far, "ticketing.raw"))
	assert.FileExists(t, filepath.Join(far, "ticketing.vhd"))
	assert.NoFileExists(t, filepath.Join(quay, "ticketing.vhd"))
}

// TestAGroupStartsWholeOrNot at all, unless what is blocked is left out on request.
func TestAGroupStartsWholeOrNot(t *testing.T) {
	t.Parallel()
	state := filepath.Join(t.TempDir(), "state")
	s := testkit.Start(t, state)
	quay, lighthouse := s.Pool("quay-store"), s.Pool("lighthouse-store")
	disk(t, filepath.Join(quay, "ticketing.raw"), 4<<20)
	disk(t, filepath.Join(quay, "tide-board.raw"), 4<<20)
	used, err := os.OpenFile(filepath.Join(quay, "tide-board.raw"), os.O_RDWR, 0)
	require.NoError(t, err)
	defer used.Close()
	walk(t, quay, state, []step{
		{"pool drain quay-store lighthouse-store --yes --wait", 3, "Blocked, quay-store:tide-board.raw"},
		{"pool drain quay-store lighthouse-store --yes --wait", 3, "so nothing is started"},
		{"job list", 0, "JOB"},
	})
	assert.NoFileExists(t, filepath.Join(lighthouse, "ticketing.raw"))
	walk(t, quay, state, []step{
		{"pool drain quay-store lighthouse-store --yes --wait --without-blocked", 0, "1 of 2 are left out"},
	})
	assert.FileExists(t, filepath.Join(lighthouse, "ticketing.raw"))
	assert.FileExists(t, filepath.Join(quay, "tide-board.raw"))
}

// TestARemedyMayBeTyped: what stands behind it is what settles the check.
func TestARemedyMayBeTyped(t *testing.T) {
	t.Parallel()
	state := filepath.Join(t.TempDir(), "state")
	s := testkit.Start(t, state)
	disk(t, filepath.Join(s.Pool("quay-store"), "ticketing.raw"), 4<<20)
	lamp := t.TempDir()
	walk(
		t,
		lamp,
		state,
		[]step{{"pool add lamp-room " + lamp + " --trait names-by-uuid,dynamic-only,whole-mebibytes --accept vhd", 0, "free"}},
	)
	r := testkit.Run(t, lamp, state, "copy", "quay-store:ticketing.raw", "lamp-room:", "--yes")
	require.Equal(t, 3, r.Code, r.Notes)
	remedy := regexp.MustCompile(`Convert to vhd, dynamic \((.*), to (lamp-room:.*\.vhd)\)`).FindStringSubmatch(r.Notes)
	require.Len(t, remedy, 3, r.Notes)
	walk(t, lamp, state, []step{{"copy quay-store:ticketing.raw " + remedy[2] + " --yes " + remedy[1], 0, "PROVEN"}})
}

// TestCarryingOnTheSpot needs no service.
func TestCarryingOnTheSpot(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	disk(t, filepath.Join(dir, "a.raw"), 6<<20)
	require.NoError(t, os.Mkdir(filepath.Join(dir, "seabag"), 0o700))
	walk(t, dir, "", []step{
		{"convert ./a.raw ./seabag/a.raw --layout pieces --piece-size 2M", 0, "PROVEN"},
		{"join ./seabag/a.raw.001 ./b.raw", 0, "the content that its tag says"},
		{"copy ./b.raw ./seabag/", 0, "PROVEN"},
		{"copy ./b.raw ./seabag/", 3, "exists already"},
		{"move ./b.raw ./c.raw", 0, "PROVEN"},
		{"compact ./c.raw --layout thick", 0, "raw, thick"},
		{"convert ./a.raw ./top.qcow2 --layout overlay --base ./c.raw", 0, "PROVEN"},
		{"move ./c.raw ./seabag/c.raw", 3, "Move them along with it"},
		{"move ./c.raw ./seabag/d.raw --family", 0, "top.qcow2 came along"},
		{"prove ./seabag/top.qcow2", 0, "PROVEN"},
		{"move ./seabag/d.raw ./seabag/keel.raw --family", 0, "top.qcow2 came along"},
		{"prove ./seabag/top.qcow2", 0, "PROVEN"},
		{"copy ./seabag/keel.raw ./c.raw", 0, "PROVEN"},
		{"move ./c.raw quay-store:", 2, "in \"convert\" only"},
		{"copy ./c.raw", 2, "name what is to go"},
	})
	damaged := filepath.Join(dir, "seabag/a.raw.002")
	b, err := os.ReadFile(damaged)
	require.NoError(t, err)
	b[4097] ^= 1
	require.NoError(t, os.WriteFile(damaged, b, 0o600))
	walk(t, dir, "", []step{
		{"join ./seabag/a.raw.001 ./d.raw", 4, "a.raw.002"},
		{"join ./seabag/a.raw.001 ./d.raw --as-it-is", 0, "PROVEN, with 1 doubt(s)"},
		{"prove ./d.raw", 0, "was taken as it is"},
	})
	r := testkit.Run(t, dir, "", "copy", "./c.raw", "./e.raw", "--json")
	var receipt struct {
		Kind, Outcome       string
		Source, Destination struct{ Fingerprint string }
	}
	require.NoError(t, json.Unmarshal([]byte(r.Out), &receipt))
	assert.Equal(t, "copy proven", receipt.Kind+" "+receipt.Outcome)
	assert.Equal(t, receipt.Source.Fingerprint, receipt.Destination.Fingerprint)
}

// TestFilesThatAreTooLong for the destination are told before anything is written, with what to do. A limit of the user stands in for that
// of a drive.
func TestFilesThatAreTooLong(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	disk(t, filepath.Join(dir, "a.raw"), 6<<20)
	limited := func(args string) (string, int) {
		cmd := exec.Command("bash", "-c", "ulimit -f 4096 && exec "+testkit.Binary(t)+" "+args) // in KiB
		cmd.Dir = dir
		out, err := cmd.CombinedOutput()
		if err != nil {
			require.ErrorAs(t, err, new(*exec.ExitError))
		}
		return string(out), cmd.ProcessState.ExitCode()
	}
	out, code := limited("copy ./a.raw ./b.raw")
	assert.Equal(t, 3, code, out)
	assert.Contains(t, out, "holds files of at most 4.0 MiB")
	assert.Contains(t, out, "Convert to")
	out, code = limited("convert ./a.raw ./b.raw --layout pieces --piece-size 2M")
	assert.Zero(t, code, out)
	assert.FileExists(t, filepath.Join(dir, "b.raw.003"))
}
