package console

import (
	"bytes"
	"crypto/sha256"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"testing"

	"bagaglio/api"
	"bagaglio/client"
	"bagaglio/core/upload"
	"bagaglio/internal/testkit"
	"bagaglio/internal/testkit/openid"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestFilesOfAPool: a folder is made, a file of this computer brought into it, renamed, downloaded and removed; a disk is left to its own page.
func TestFilesOfAPool(t *testing.T) {
	t.Parallel()
	s := world(t)
	quay := s.Pool("pier")
	require.NoError(t, os.WriteFile(filepath.Join(quay, "gate-kiosk.raw"), make([]byte, 1<<20), 0o600))
	content := make([]byte, 2*upload.PieceSize+99)
	for n := range content {
		content[n] = byte(n >> 3)
	}
	brought := filepath.Join(t.TempDir(), "installer.iso")
	require.NoError(t, os.WriteFile(brought, content, 0o600))
	p := testkit.Browse(t, 1280, 800)
	p.Open(s.Link)
	p.Open(s.Address + "/pool?name=pier")
	p.AwaitText("a disk")
	p.Fill("New folder", "media")
	p.Click("Make")
	p.Click("media")
	p.AwaitText("Nothing lies here.")
	p.Upload(brought)
	p.AwaitText("installer.iso")
	there := filepath.Join(quay, "media/installer.iso")
	p.Await(`document.querySelector("[aria-label='Download installer.iso']")`)
	got, err := os.ReadFile(there)
	require.NoError(t, err)
	assert.Equal(t, sha256.Sum256(content), sha256.Sum256(got))

	p.Click("Rename installer.iso")
	p.Fill("Its new path in the pool", "media/tools.iso")
	p.Click("Rename")
	p.AwaitText("tools.iso")
	assert.NoFileExists(t, there)
	testkit.Eval[bool](
		p,
		`fetch(document.querySelector("a[download]").href).then(r => r.arrayBuffer()).then(b => { window.came = b.byteLength }) && true`,
	)
	p.Await(fmt.Sprintf("window.came === %d", len(content)))
	p.Click("SHA-256 of tools.iso")
	p.AwaitText(fmt.Sprintf("%x", sha256.Sum256(content)))
	p.Click("Remove tools.iso")
	p.Click("Remove, and hold it for a while")
	p.AwaitText("Nothing lies here.")
	held, err := s.Held(t.Context())
	require.NoError(t, err)
	require.Len(t, held, 1)
	assert.Equal(t, "media/tools.iso", held[0].Path)

	// What was begun elsewhere goes on when the same file is chosen.
	name := "media/installer.iso"
	u, err := s.BeginUpload(t.Context(), "pier", api.NewUpload{Path: &name, Size: int64(len(content))})
	require.NoError(t, err)
	_, err = s.Send(t.Context(), u, io.NewSectionReader(bytes.NewReader(content), 0, upload.PieceSize), func(int64, int64) {}, nil)
	require.Error(t, err, "it breaks off behind the first piece")
	p.Upload(brought)
	p.Await(`document.querySelector("[aria-label='Download installer.iso']")`)
	assert.FileExists(t, there)
}

// TestFilesAreDropped into a folder of a pool, several at a time.
func TestFilesAreDropped(t *testing.T) {
	t.Parallel()
	s := world(t)
	pier := s.Pool("pier")
	p := testkit.Browse(t, 1280, 800)
	p.Open(s.Link)
	p.AwaitText("What needs you")
	p.Open(s.Address + "/pool?name=pier")
	p.AwaitText("Bring files here, or drop them")
	testkit.Eval[bool](p, `(() => {
		const dropped = new DataTransfer();
		for (const name of ["tide-tables.txt", "buoys.txt"]) dropped.items.add(new File([name + " of the harbour"], name));
		const at = document.querySelector("input[type=file]");
		at.dispatchEvent(new DragEvent("dragover", { dataTransfer: dropped, bubbles: true, cancelable: true }));
		return !at.dispatchEvent(new DragEvent("drop", { dataTransfer: dropped, bubbles: true, cancelable: true }));
	})()`)
	for _, name := range []string{"tide-tables.txt", "buoys.txt"} {
		p.Await(fmt.Sprintf(`document.querySelector("[aria-label='Download %s']")`, name))
		got, err := os.ReadFile(filepath.Join(pier, name))
		require.NoError(t, err)
		assert.Equal(t, name+" of the harbour", string(got))
	}
}

// TestSignedInThroughTheProvider: who has an account there is in with one click, and who may do nothing here is told.
func TestSignedInThroughTheProvider(t *testing.T) {
	t.Parallel()
	provider := openid.Start(t)
	secret := filepath.Join(t.TempDir(), "secret")
	require.NoError(t, os.WriteFile(secret, []byte(openid.Secret), 0o600))
	s := testkit.Start(
		t,
		filepath.Join(t.TempDir(), "state"),
		"--openid",
		provider.Issuer,
		"--openid-secret",
		secret,
		"--openid-role",
		"harbour-crew=operator",
	)
	p := testkit.Browse(t, 1280, 800)
	provider.SignsIn(map[string]any{"preferred_username": "rona", "groups": []string{"choir"}})
	p.Open(s.Address)
	p.Click("Sign in there")
	p.AwaitText("none of your groups may do anything here")
	provider.SignsIn(map[string]any{"preferred_username": "rona", "groups": []string{"harbour-crew"}})
	p.Click("Sign in there")
	p.AwaitText("rona, operator")
}

// TestASecondPersonAgrees on the page Now, where it says who asked for what.
func TestASecondPersonAgrees(t *testing.T) {
	t.Parallel()
	s := testkit.Start(t, filepath.Join(t.TempDir(), "state"), "--second-person")
	require.NoError(t, os.WriteFile(filepath.Join(s.Pool("quay-store"), "notes.txt"), []byte("ask the purser"), 0o600))
	p := testkit.Browse(t, 1280, 800)
	p.Open(s.Link)
	p.Click("Settings")
	p.Fill("Name of a new token", "rona")
	p.Fill("What it may", "admin")
	p.Fill("What it is limited to", "pool:quay-store")
	p.Click("Make it")
	p.AwaitText("works on pool:quay-store")
	rona, err := client.Dial(s.Address, testkit.Eval[string](p, `document.querySelector("output").textContent`))
	require.NoError(t, err)
	require.NoError(t, rona.RemoveFile(t.Context(), "quay-store", "notes.txt"))
	held, err := s.Held(t.Context())
	require.NoError(t, err)
	require.Error(t, rona.DropHeld(t.Context(), "quay-store", held[0].Id))
	p.Click("Now")
	p.AwaitText("Asked for by rona")
	p.Click("I agree: let it be gone")
	p.Await(`!document.body.innerText.includes("Asked for by rona")`)
	held, err = s.Held(t.Context())
	require.NoError(t, err)
	assert.Empty(t, held)
}
