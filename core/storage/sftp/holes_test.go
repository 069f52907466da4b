package sftp

import (
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"bagaglio/core/storage"
	"bagaglio/internal/testkit/sshd"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestHolesOfManyRuns: the map of a file in many pieces is longer than what is asked for first.
func TestHolesOfManyRuns(t *testing.T) {
	server, dir := sshd.Start(t), t.TempDir()
	f, err := Open(t.Context(), Login{Address: server.Address, User: server.User, Key: server.Key, HostKey: server.HostKey}, dir)
	require.NoError(t, err)
	defer f.Close()
	const runs, apart = 5000, 128 << 10
	thin, err := os.Create(filepath.Join(dir, "it's thin"))
	require.NoError(t, err)
	for i := range int64(runs) {
		_, err := thin.WriteAt([]byte("sea"), i*apart+apart/2)
		require.NoError(t, err)
	}
	require.NoError(t, thin.Close())
	full := filepath.Join(dir, "full")
	require.NoError(t, os.WriteFile(full, make([]byte, 1<<20), 0o600))

	opened, err := f.Open("it's thin")
	require.NoError(t, err)
	defer opened.Close()
	finder := opened.(storage.RangeFinder)
	found, at := 0, int64(0)
	for {
		end, data, err := finder.Range(at)
		if errors.Is(err, io.EOF) {
			break
		}
		require.NoError(t, err)
		if data {
			assert.Equal(t, int64(found)*apart+apart/2, at)
			found++
		}
		at = end
	}
	assert.Equal(t, runs, found)

	// The map of another file that has the name now is not taken for that of the open one.
	replaced, err := f.Open("it's thin")
	require.NoError(t, err)
	defer replaced.Close()
	require.NoError(t, os.Rename(thin.Name(), thin.Name()+" no more"))
	other, err := os.Create(thin.Name())
	require.NoError(t, err)
	require.NoError(t, errors.Join(other.Truncate(at), os.Chtimes(thin.Name(), time.Now(), time.Now().Add(time.Minute)), other.Close()))
	end, data, err := replaced.(storage.RangeFinder).Range(0)
	require.NoError(t, err)
	assert.True(t, data)
	assert.Equal(t, at, end)

	opened, err = f.Open("full")
	require.NoError(t, err)
	defer opened.Close()
	end, data, err = opened.(storage.RangeFinder).Range(5)
	require.NoError(t, err)
	assert.True(t, data, "zeros that are stored are data")
	assert.Equal(t, int64(1<<20), end)
}

// archive is the beginning of one, with these records and this map.
func archive(records, sparse string) []byte {
	header := func(kind byte, size int) string {
		h := make([]byte, block)
		h[typeAt] = kind
		copy(h[sizeAt:], fmt.Sprintf("%011o", size))
		return string(h)
	}
	pad := func(s string) string { return s + strings.Repeat("\x00", -len(s)&(block-1)) }
	return []byte(header('x', len(records)) + pad(records) + header('0', 0) + sparse)
}

const sparseRecords = "22 GNU.sparse.major=1\n22 GNU.sparse.minor=0\n29 GNU.sparse.realsize=90000\n"

// TestMapsAreNotTrusted: a host may say anything.
func TestMapsAreNotTrusted(t *testing.T) {
	for name, c := range map[string]struct {
		archive []byte
		want    []run
		err     error
	}{
		"whole":       {archive(sparseRecords, "3\n0\n4096\n8192\n4096\n90000\n0\n"), []run{{0, 4096}, {8192, 12288}}, nil},
		"empty":       {archive(sparseRecords, "1\n90000\n0\n"), []run{}, nil},
		"to the end":  {archive(sparseRecords, "1\n4096\n85904\n"), []run{{4096, 90000}}, nil},
		"not so far":  {archive(sparseRecords, "1\n4096\n4096\n"), nil, errNoMap},
		"none":        {archive(sparseRecords, "0\n"), nil, errNoMap},
		"less":        {archive(sparseRecords, "-1\n"), nil, errNoMap},
		"cut":         {archive(sparseRecords, "3\n0\n4096\n81"), nil, io.ErrUnexpectedEOF},
		"no map":      {archive(sparseRecords, ""), nil, io.ErrUnexpectedEOF},
		"no number":   {archive(sparseRecords, "a\n"), nil, errNumber},
		"backwards":   {archive(sparseRecords, "2\n8192\n4096\n0\n4096\n"), nil, errNoMap},
		"overlapping": {archive(sparseRecords, "2\n0\n8192\n4096\n8192\n"), nil, errNoMap},
		"behind":      {archive(sparseRecords, "1\n89999\n2\n"), nil, errNoMap},
		"overflowing": {archive(sparseRecords, "1\n4096\n9223372036854775807\n"), nil, errNoMap},
		"negative":    {archive(sparseRecords, "1\n4096\n-1\n"), nil, errNoMap},
		"many":        {archive(sparseRecords, "9223372036854775807\n0\n1\n"), nil, io.ErrUnexpectedEOF},
		"other size":  {archive(strings.Replace(sparseRecords, "90000", "90001", 1), "1\n0\n1\n"), nil, errNoMap},
		"other form":  {archive(strings.Replace(sparseRecords, "major=1", "major=0", 1), "1\n0\n1\n"), nil, errNoMap},
		"not sparse":  {archive("", "1\n0\n1\n"), nil, errNoMap},
		"short":       {[]byte("no archive"), nil, errNoMap},
		"headers cut": {archive(sparseRecords, "")[:700], nil, errNoMap},
	} {
		t.Run(name, func(t *testing.T) {
			got, err := sparseMap(c.archive, 90000)
			if errors.Is(c.err, errNumber) {
				assert.ErrorContains(t, err, "invalid syntax")
				return
			}
			assert.ErrorIs(t, err, c.err)
			assert.Equal(t, c.want, got)
		})
	}
}

var errNumber = fmt.Errorf("of a number")

func FuzzSparseMap(f *testing.F) {
	f.Add(archive(sparseRecords, "3\n0\n4096\n8192\n4096\n90000\n0\n"))
	if real, err := exec.Command("sh", "-c", "cd $(mktemp -d) && truncate -s 90000 a && tar -c -f - --format=posix --sparse --sparse-version=1.0 a; rm -r $PWD").
		Output(); err == nil {
		f.Add(real)
	}
	f.Fuzz(func(t *testing.T, archive []byte) {
		runs, err := sparseMap(archive, 90000)
		if err != nil {
			return
		}
		at := int64(0)
		for _, r := range runs {
			require.True(t, r.off >= at && r.end > r.off && r.end <= 90000, "%+v", runs)
			at = r.end
		}
	})
}
