package cli

import (
	"encoding/json"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"bagaglio/internal/testkit"
	"bagaglio/internal/testkit/fewer"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestEveryLayoutFromTheCommandLine, as the fixed names of formats and layouts say; what is made is opened under the name
// that was given, and by the one in the receipt.
func TestEveryLayoutFromTheCommandLine(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	disk(t, filepath.Join(dir, "a.raw"), 20<<20)
	f, err := os.OpenFile(filepath.Join(dir, "a.raw"), os.O_WRONLY, 0)
	require.NoError(t, err)
	_, err = f.WriteAt([]byte(strings.Repeat("cargo ledger ", 100_000)), 10<<20) // something to compress
	require.NoError(t, err)
	require.NoError(t, f.Close())
	run := func(args string) string {
		r := testkit.Run(t, dir, "", strings.Fields(args)...)
		require.Zero(t, r.Code, "%s: %s", args, r.Notes)
		return r.Out
	}
	want := run("fingerprint ./a.raw")
	for _, format := range fewer.Of(t, 4, []struct{ name, layouts string }{
		{"raw", "thin thick pieces"}, {"qcow2", "thin thick compressed overlay"}, {"vmdk", "sparse flat split-sparse split-flat stream delta"},
		{"vhd", "dynamic fixed differencing"}, {"vhdx", "dynamic fixed differencing"}, {"vdi", "dynamic fixed"}, {"hdd", "expanding plain"},
	}) {
		base := ""
		for _, layout := range strings.Fields(format.layouts) {
			name := "./" + layout + "." + format.name
			args := "convert ./a.raw " + name + " --as " + format.name + " --layout " + layout + " --json"
			if layout == "overlay" || layout == "delta" || layout == "differencing" {
				args += " --base " + base
			} else if base == "" {
				base = name
			}
			var receipt struct {
				Outcome     string
				Destination struct{ Place struct{ Path string } }
			}
			require.NoError(t, json.Unmarshal([]byte(run(args)), &receipt))
			assert.Equal(t, "proven", receipt.Outcome)
			var report struct{ Format, Layout string }
			for _, at := range []string{name, receipt.Destination.Place.Path} {
				require.NoError(t, json.Unmarshal([]byte(run("look --json "+at)), &report))
				assert.Equal(t, format.name+" "+layout, report.Format+" "+report.Layout)
				assert.Equal(t, want, run("fingerprint "+at), at)
			}
		}
	}
}

// TestBaseElsewhere: an image names its base relative to itself, and who reads it says how far names may lead.
func TestBaseElsewhere(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	disk(t, filepath.Join(dir, "a.raw"), 8<<20)
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "monday"), 0o700))
	run := func(args string) testkit.Result { return testkit.Run(t, dir, "", strings.Fields(args)...) }
	require.Zero(t, run("convert ./a.raw ./base.qcow2").Code)
	r := run("convert ./a.raw ./monday/a.qcow2 --layout overlay --base ./base.qcow2")
	require.Zero(t, r.Code, r.Notes)
	r = run("look ./monday/a.qcow2")
	assert.Equal(t, 1, r.Code)
	assert.Contains(t, r.Notes, "--within")
	r = run("look ./monday/a.qcow2 --within .")
	require.Zero(t, r.Code, r.Notes)
	assert.Contains(t, r.Out, "stands on       ../base.qcow2")
	assert.Equal(t, run("fingerprint ./a.raw").Out, run("fingerprint ./monday/a.qcow2 --within .").Out)
	assert.Equal(t, 1, run("look ./monday/a.qcow2 --within ./monday").Code)
}

// TestKernelReadsWhatCameThrough: pieces one behind the other, a flat extent and a plain image are disks for the operating
// system as they are.
func TestKernelReadsWhatCameThrough(t *testing.T) {
	t.Parallel()
	if os.Getuid() != 0 {
		t.Skip("loop devices take root")
	}
	dir := t.TempDir()
	script := `set -e; cd "$0"; truncate -s 64M a.raw; mkfs.ext4 -q -L crew a.raw; export PATH="$1:$PATH"
		bagaglio convert ./a.raw ./c.qcow2 --layout compressed --compression zstd 2>/dev/null >&2
		bagaglio convert ./c.qcow2 ./p.raw --layout pieces --piece-size 10M 2>/dev/null >&2
		bagaglio convert ./p.raw ./s.vmdk --layout stream 2>/dev/null >&2
		bagaglio convert ./s.vmdk ./f.vmdk --layout flat 2>/dev/null >&2
		bagaglio convert ./f.vmdk ./b.hdd --layout plain 2>/dev/null >&2
		cat p.raw.0* > joined.raw
		for image in joined.raw f-flat.vmdk b.hdd/*.hds; do
			loop=$(losetup --find --show --read-only "$image"); e2fsck -fn $loop 2>&1 | tail -1; blkid -o value -s LABEL $loop; losetup -d $loop; cmp a.raw "$image"
		done`
	out, err := exec.CommandContext(t.Context(), "bash", "-c", script, dir, filepath.Dir(testkit.Binary(t))).CombinedOutput()
	require.NoError(t, err, "%s", out)
	assert.Equal(t, 3, strings.Count(string(out), "crew\n"), string(out))
	assert.Equal(t, 3, strings.Count(string(out), "crew: "), string(out))
}

// TestFormatsTellTheirChoices: a program finds in the list of formats what each layout takes.
func TestFormatsTellTheirChoices(t *testing.T) {
	t.Parallel()
	s := testkit.Start(t, filepath.Join(t.TempDir(), "state"))
	request, err := http.NewRequestWithContext(t.Context(), http.MethodGet, s.Address+"/v1/formats", nil)
	require.NoError(t, err)
	token, err := os.ReadFile(filepath.Join(s.State, "token"))
	require.NoError(t, err)
	request.Header.Set("Authorization", "Bearer "+strings.TrimSpace(string(token)))
	response, err := http.DefaultClient.Do(request)
	require.NoError(t, err)
	defer response.Body.Close()
	b, err := io.ReadAll(response.Body)
	require.NoError(t, err)
	var formats struct {
		Items []struct {
			Name    string
			Layouts []struct {
				Name    string
				Stands  bool
				Options []struct {
					Name   string
					Values []string
					Most   int64
				}
			}
		}
	}
	require.NoError(t, json.Unmarshal(b, &formats), string(b))
	choices := map[string]int{}
	for _, f := range formats.Items {
		for _, l := range f.Layouts {
			if l.Stands {
				choices[f.Name+" "+l.Name+" stands"]++
			}
			for _, o := range l.Options {
				assert.True(t, len(o.Values) > 0 || o.Most > 0, "%s, %s: %s", f.Name, l.Name, o.Name)
				choices[f.Name+" "+l.Name+" "+o.Name] = len(o.Values)
			}
		}
	}
	assert.Equal(t, 13, choices["qcow2 thin block_size"])
	assert.Equal(t, 2, choices["qcow2 compressed compression"])
	assert.Equal(t, 4, choices["vmdk flat adapter"])
	assert.Equal(t, 1, choices["vhdx differencing stands"])
	assert.Contains(t, choices, "raw pieces piece_size")
}
