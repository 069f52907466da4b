package service

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"io"
	"net"
	"net/http"
	"net/http/httputil"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"

	"bagaglio/api"
	"bagaglio/client"
	"bagaglio/core/host"
	"bagaglio/core/step/disks"
	"bagaglio/core/upload"
	"bagaglio/internal/testkit"
	"bagaglio/internal/testkit/daemon"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func quiet(int64, int64) {}

// TestFilesAndFolders are listed, made, renamed and removed, and come back from what is held; disks and what belongs to them are not touched.
func TestFilesAndFolders(t *testing.T) {
	t.Parallel()
	s := start(t)
	quay := s.Pool("quay-store")
	noise(t, quay, "ticketing.raw", mib)
	r := convert("ticketing.raw", "brought/ticketing.vmdk", "vmdk")
	r.Destination.Pool = "quay-store"
	testkit.Proven(t, s.Service, testkit.Begin(t, s.Service, r).Id)
	require.NoError(t, os.WriteFile(filepath.Join(quay, "notes.txt"), []byte("ask the purser"), 0o600))

	list := func(folder string) (names []string, of map[string]string) {
		t.Helper()
		of = map[string]string{}
		page, err := s.Files(t.Context(), "quay-store", folder, "")
		require.NoError(t, err)
		for _, e := range page.Items {
			names = append(names, e.Path)
			if e.Disk != nil {
				of[e.Path] = *e.Disk
			}
		}
		assert.Equal(t, len(names), page.Total)
		return names, of
	}
	yes := true
	_, err := s.ListDisks(t.Context(), "quay-store", api.ListDisksParams{Refresh: &yes}) // so that what belongs to them is known
	require.NoError(t, err)
	names, of := list("")
	assert.Equal(t, []string{"brought", "notes.txt", "ticketing.raw"}, names, "folders first, and nothing of what a pool holds for itself")
	assert.Equal(t, map[string]string{"ticketing.raw": "ticketing.raw"}, of)
	_, of = list("brought")
	assert.Equal(t, map[string]string{
		"brought/ticketing.vmdk":        "brought/ticketing.vmdk",
		"brought/ticketing.vmdk.bagtag": "brought/ticketing.vmdk",
	}, of)

	require.NoError(t, s.MakeFolder(t.Context(), "quay-store", "papers/old"))
	require.Error(t, s.MakeFolder(t.Context(), "quay-store", "papers"))
	require.NoError(t, s.RenameFile(t.Context(), "quay-store", "notes.txt", "papers/notes.txt"))
	for _, refused := range [][2]string{
		{"papers", "papers/within"},
		{"papers", "../papers"},
		{"brought", "taken"},
		{"brought/ticketing.vmdk", "x.vmdk"},
		{"brought/ticketing.vmdk.bagtag", "x.bagtag"},
		{"papers", "brought"},
		{"nothing", "x"},
		{disks.OwnFolder, "x"},
		{".", "x"},
	} {
		require.Error(t, s.RenameFile(t.Context(), "quay-store", refused[0], refused[1]), "%v", refused)
	}
	for _, refused := range []string{"brought", "brought/ticketing.vmdk", ".", "..", "/", disks.OwnFolder, "nothing"} {
		require.Error(t, s.RemoveFile(t.Context(), "quay-store", refused), refused)
	}
	assert.FileExists(t, filepath.Join(quay, "brought/ticketing.vmdk"))
	require.NoError(t, s.RemoveFile(t.Context(), "quay-store", "papers"))
	assert.NoDirExists(t, filepath.Join(quay, "papers"))
	held, err := s.Held(t.Context())
	require.NoError(t, err)
	require.Len(t, held, 1)
	_, err = s.Restore(t.Context(), "quay-store", held[0].Id, false)
	require.NoError(t, err)
	text, err := os.ReadFile(filepath.Join(quay, "papers/notes.txt"))
	require.NoError(t, err)
	assert.Equal(t, "ask the purser", string(text))
}

// TestAMachinesFileIsNotTaken: what a definition names is its machine's, also where it is no disk.
func TestAMachinesFileIsNotTaken(t *testing.T) {
	t.Parallel()
	s, here, _ := twoHosts(t)
	fresh, err := os.ReadFile(variables)
	if err != nil {
		t.Skip("the firmware is missing: apt-get install ovmf")
	}
	kind, err := host.Lookup("libvirt")
	require.NoError(t, err)
	h, err := kind.Open(t.Context(), host.Address{Socket: here.Socket, Dial: daemon.Dial})
	require.NoError(t, err)
	defer h.Close()
	text := strings.Replace(
		daemon.Definition("tide-board", here.Disk(t, "tide-board.raw", daemon.Boot(true))),
		"<type arch='x86_64' machine='pc'>hvm</type>",
		"<type arch='x86_64' machine='q35'>hvm</type><loader readonly='yes' type='pflash'>/usr/share/OVMF/OVMF_CODE_4M.fd</loader><nvram>"+
			here.Disk(t, "tide-board.fd", fresh)+"</nvram>",
		1,
	)
	_, err = h.(host.Definer).Define(t.Context(), []byte(strings.Replace(text, "dev='hda' bus='ide'", "dev='vda' bus='virtio'", 1)))
	require.NoError(t, err)
	require.ErrorContains(t, s.RemoveFile(t.Context(), "quay-store", "tide-board.fd"), "tide-board uses it")
	require.ErrorContains(t, s.RenameFile(t.Context(), "quay-store", "tide-board.fd", "x.fd"), "tide-board uses it")
}

// cutting lets so many requests with pieces through, and cuts the line of the next one; then of every third.
func cutting(t *testing.T, s *testkit.Service, after int64) *client.Service {
	t.Helper()
	at, err := url.Parse(s.Address)
	require.NoError(t, err)
	proxy := httputil.NewSingleHostReverseProxy(at)
	var n atomic.Int64
	line, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	server := &http.Server{Handler: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Method == http.MethodPut || r.Header.Get("Range") != "" {
			if k := n.Add(1); k > after && k%3 == 0 {
				panic(http.ErrAbortHandler)
			}
		}
		r.Host = at.Host
		proxy.ServeHTTP(w, r)
	})}
	go func() { _ = server.Serve(line) }()
	t.Cleanup(func() { _ = server.Close() })
	cut, err := client.Dial("http://"+line.Addr().String(), s.Token)
	require.NoError(t, err)
	return cut
}

// TestUploads: over a line that is cut again and again, and over a service that is killed in between; what came is what was sent, and stays until then out of sight.
func TestUploads(t *testing.T) {
	t.Parallel()
	s := start(t)
	quay := s.Pool("quay-store")
	content := make([]byte, 5*upload.PieceSize+333)
	for n := range content {
		content[n] = byte(n * n >> 7)
	}
	clear(content[upload.PieceSize : 2*upload.PieceSize])
	name := "media/installer.iso"
	begin := func(s *client.Service) api.Upload {
		t.Helper()
		u, err := s.BeginUpload(t.Context(), "quay-store", api.NewUpload{Path: &name, Size: int64(len(content))})
		require.NoError(t, err)
		return u
	}
	u := begin(s.Service)
	other := append(bytes.Clone(content[:len(content)-1]), 'x')
	var reads atomic.Int64
	_, err := s.Send(t.Context(), u, readerAt(func(p []byte, off int64) (int, error) {
		if reads.Add(1) > 5 {
			return 0, io.ErrUnexpectedEOF
		}
		return bytes.NewReader(other).ReadAt(p, off)
	}), quiet, nil)
	require.Error(t, err, "it breaks off at the last piece")
	assert.NoFileExists(t, filepath.Join(quay, name))
	s.Kill()
	s = testkit.Start(t, s.State)
	again := begin(s.Service)
	assert.Equal(t, u.Id, again.Id, "it goes on")
	here := 0
	for _, sum := range again.Here {
		if sum != "" {
			here++
		}
	}
	assert.Positive(t, here)
	done, err := cutting(t, s, 1).Send(t.Context(), again, bytes.NewReader(content), quiet, nil)
	require.NoError(t, err)
	assert.Equal(t, api.Arrived, done.State)
	got, err := os.ReadFile(filepath.Join(quay, name))
	require.NoError(t, err)
	assert.Equal(t, sha256.Sum256(content), sha256.Sum256(got))
	_, err = s.BeginUpload(t.Context(), "quay-store", api.NewUpload{Path: &name, Size: 3})
	require.ErrorContains(t, err, "there already")

	sum, err := s.SumFile(t.Context(), "quay-store", name)
	require.NoError(t, err)
	of := sha256.Sum256(content)
	assert.Equal(t, hex.EncodeToString(of[:]), sum.Sha256)
	file, err := cutting(t, s, 1).Folder(t.Context(), "quay-store").Open(name)
	require.NoError(t, err)
	back, err := io.ReadAll(io.NewSectionReader(file, 0, int64(len(content))))
	require.NoError(t, err)
	assert.Equal(t, of, sha256.Sum256(back))
	require.NoError(t, os.WriteFile(filepath.Join(quay, name), content[1:], 0o600))
	_, err = file.ReadAt(back[:10], 0)
	require.ErrorContains(t, err, "was changed while it was read")
}

type readerAt func(p []byte, off int64) (int, error)

func (r readerAt) ReadAt(p []byte, off int64) (int, error) { return r(p, off) }

// TestWhatDoesNotArrive: pieces that are damaged on their way or on the storage, and a file that would not fit.
func TestWhatDoesNotArrive(t *testing.T) {
	t.Parallel()
	s := start(t)
	quay := s.Pool("quay-store")
	content := bytes.Repeat([]byte("crew roster "), 800_000)
	name := "roster.bin"
	u, err := s.BeginUpload(t.Context(), "quay-store", api.NewUpload{Path: &name, Size: int64(len(content))})
	require.NoError(t, err)
	damaged := false
	done, err := s.Send(t.Context(), u, bytes.NewReader(content), func(_, there int64) {
		if !damaged && there == 0 { // what came first does not stay what it was
			damaged = true
			file, err := os.OpenFile(filepath.Join(quay, u.Content), os.O_WRONLY, 0)
			if assert.NoError(t, err) {
				_, err = file.WriteAt([]byte("CREW"), 12)
				assert.NoError(t, err)
				assert.NoError(t, file.Close())
			}
		}
	}, nil)
	require.NoError(t, err, "it was sent again")
	assert.Equal(t, api.Arrived, done.State)
	got, err := os.ReadFile(filepath.Join(quay, name))
	require.NoError(t, err)
	assert.Equal(t, sha256.Sum256(content), sha256.Sum256(got))

	large := int64(1) << 43
	_, err = s.BeginUpload(t.Context(), "quay-store", api.NewUpload{Path: &name, Size: large})
	require.ErrorContains(t, err, "free")
	for _, bad := range []string{"../x", "/etc/x", "folder/", disks.OwnFolder + "/held/x"} {
		_, err = s.BeginUpload(t.Context(), "quay-store", api.NewUpload{Path: &bad, Size: 3})
		require.Error(t, err, bad)
	}
	status := func(err error) int {
		t.Helper()
		var problem *client.Error
		require.ErrorAs(t, err, &problem)
		return problem.Status
	}
	huge, room, other := int64(upload.MaxSize)+1, int64(1), "huge.bin"
	_, err = s.BeginUpload(t.Context(), "quay-store", api.NewUpload{Path: &other, Size: huge, Room: &room})
	assert.Equal(t, http.StatusBadRequest, status(err))
	left, err := s.Uploads(t.Context(), "quay-store")
	require.NoError(t, err)
	assert.Empty(t, left)
}

// TestAnUploadThatIsNotWhole is no disk yet, whatever asks for it; one that has arrived is read, and can be ended again after what was made of it failed.
func TestAnUploadThatIsNotWhole(t *testing.T) {
	t.Parallel()
	s := start(t)
	quay := s.Pool("quay-store")
	content := bytes.Repeat([]byte("crew roster "), 800_000)
	key := "monday"
	begin := func() api.Upload {
		t.Helper()
		u, err := s.BeginUpload(t.Context(), "quay-store", api.NewUpload{Key: &key, Size: int64(len(content))})
		require.NoError(t, err)
		return u
	}
	u := begin()
	r := convert(u.Content, "roster.qcow2", "qcow2")
	r.Source.Format, r.Destination.Pool = "raw", "quay-store"
	blocked := func() {
		t.Helper()
		p, err := s.Plan(t.Context(), r)
		require.NoError(t, err)
		assert.Contains(t, messages(p.Plan), "being uploaded")
		_, err = s.Start(t.Context(), api.NewJob{Plan: p.Id})
		require.ErrorContains(t, err, "being uploaded")
	}
	blocked()
	_, err := s.Send(t.Context(), u, io.NewSectionReader(bytes.NewReader(content), 0, upload.PieceSize), quiet, nil)
	require.Error(t, err)
	blocked()
	done, err := s.Send(t.Context(), begin(), bytes.NewReader(content), quiet, nil)
	require.NoError(t, err)
	assert.Equal(t, api.Arrived, done.State)
	testkit.Proven(t, s.Service, testkit.Begin(t, s.Service, r).Id)
	again := begin()
	assert.Equal(t, u.Id, again.Id)
	s.Kill()
	s = testkit.Start(t, s.State)
	changed := append([]byte("C"), content[1:]...)
	_, err = s.Send(t.Context(), begin(), bytes.NewReader(changed), quiet, nil)
	require.NoError(t, err)
	got, err := os.ReadFile(filepath.Join(quay, u.Content))
	require.NoError(t, err)
	assert.Equal(t, sha256.Sum256(changed), sha256.Sum256(got))
	require.NoError(t, s.DropUpload(t.Context(), "quay-store", u.Id))
	assert.NoDirExists(t, filepath.Dir(filepath.Join(quay, u.Content)))
	_, err = s.Upload(t.Context(), "quay-store", u.Id)
	require.ErrorContains(t, err, "not found")
}
