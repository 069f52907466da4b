package service

import (
	"archive/tar"
	"bytes"
	"errors"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"bagaglio/api"
	"bagaglio/core/receipt"
	"bagaglio/core/step/disks"
	"bagaglio/internal/testkit"

	"github.com/jmoiron/sqlx"
	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	_ "modernc.org/sqlite"
)

// unpack makes the files of an archive in a folder.
func unpack(t *testing.T, archive, dir string) {
	t.Helper()
	f, err := os.Open(archive)
	require.NoError(t, err)
	defer f.Close()
	z, err := zstd.NewReader(f)
	require.NoError(t, err)
	defer z.Close()
	for in := tar.NewReader(z); ; {
		h, err := in.Next()
		if errors.Is(err, io.EOF) {
			return
		}
		require.NoError(t, err)
		name := filepath.Join(dir, filepath.Clean("/"+h.Name))
		if h.Typeflag == tar.TypeDir {
			require.NoError(t, os.MkdirAll(name, 0o700))
			continue
		}
		content, err := io.ReadAll(in)
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(name, content, 0o600))
	}
}

// TestAnOlderVersionsStateGoesOn: state folders that older versions left, killed in the middle, with a job that is done, one that was
// writing and one that waits to move a disk (packaging/state.sh). All of it is there, and goes on.
func TestAnOlderVersionsStateGoesOn(t *testing.T) {
	t.Parallel()
	all, err := filepath.Glob("testdata/*.tar.zst")
	require.NoError(t, err)
	require.GreaterOrEqual(t, len(all), 2)
	for _, archive := range all {
		t.Run(strings.TrimSuffix(filepath.Base(archive), ".tar.zst"), func(t *testing.T) {
			t.Parallel()
			dir := t.TempDir()
			unpack(t, archive, dir)
			state := filepath.Join(dir, "state")
			db, err := sqlx.Open("sqlite", filepath.Join(state, "records.sqlite"))
			require.NoError(t, err)
			for _, change := range []string{`UPDATE pools SET folder = replace(folder, '/srv/isola', ?)`, `UPDATE leases SET file = replace(file, '/srv/isola', ?)`} {
				_, err := db.Exec(change, dir)
				require.NoError(t, err)
			}
			require.NoError(t, db.Close())

			s := testkit.Start(t, state)
			_, err = s.Change(t.Context(), "2", api.JobChange{Speed: ptr(int64(0))})
			require.NoError(t, err)
			assert.Equal(t, receipt.Proven, testkit.Proven(t, s.Service, "2").Outcome)
			old, err := s.Job(t.Context(), "1")
			require.NoError(t, err)
			assert.Equal(t, []string{"look", "fill", "secure", "prove", "publish"}, testkit.Kinds(*old.Plan))
			actions := []api.JobAction{api.ActAgain, api.ActUndo}
			if strings.Contains(archive, "half-done") {
				actions = actions[:1] // what it would take to undo it was not kept then
			}
			assert.ElementsMatch(t, actions, old.Actions)
			done, err := s.Receipt(t.Context(), "1")
			require.NoError(t, err)
			assert.Equal(t, receipt.Proven, done.Outcome)

			_, err = s.Change(t.Context(), "3", api.JobChange{Hours: ptr("")})
			require.NoError(t, err)
			testkit.Proven(t, s.Service, "3")
			before, err := os.ReadFile(filepath.Join(dir, "light", "ticket.raw"))
			require.NoError(t, err)
			assert.True(t, bytes.Contains(before, []byte("Isola Ferries ticket")))
			assert.NoFileExists(t, filepath.Join(dir, "quay", "ticket.raw"))
			assert.NoDirExists(t, filepath.Join(dir, "light", disks.StagingFolder))
			check := testkit.Run(t, dir, state, "receipt", "check")
			assert.Contains(t, check.Out, "3 receipts, each as it was signed", check.Notes)
		})
	}
}
