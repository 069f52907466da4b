package volumes_test

import (
	"math/rand/v2"
	"testing"

	"bagaglio/core/storage"
	"bagaglio/core/storage/volumes"

	"github.com/stretchr/testify/assert"
)

// TestNamesOfVolumes: whatever a disk is called, its path leads to its name again, and no two names have one path.
func TestNamesOfVolumes(t *testing.T) {
	random := rand.New(rand.NewPCG(7, 7))
	letters := []rune("ab-+_.: /%2BFé")
	for _, set := range []string{"lvm:isola-quay", "lvm:isola/thin", "zfs:tank/isola"} {
		g := volumes.Ground{Folder: "/srv/isola", Volumes: set}
		seen := map[string]string{}
		for range 20_000 {
			name := ""
			for range 1 + random.IntN(6) {
				name += string(letters[random.IntN(len(letters))])
			}
			name += "x.raw"
			at := g.Path(name)
			back, ok := g.Name(at)
			clean, err := storage.Clean(name)
			if err != nil || !ok { // nothing can have that name
				assert.True(t, err != nil || at[:4] != "/dev", "%q is %q, and that %q", name, at, back)
				continue
			}
			name = clean
			assert.Equal(t, name, back, at)
			if other := seen[at]; other != "" {
				assert.Equal(t, other, name, at)
			}
			seen[at] = name
		}
		assert.Greater(t, len(seen), 1000)
		name, ok := g.Name("/srv/isola/tags/x.bagtag")
		assert.True(t, ok)
		assert.Equal(t, "tags/x.bagtag", name)
	}
	g := volumes.Ground{Folder: "/srv/isola", Volumes: "lvm:isola-quay"}
	for at, want := range map[string]string{
		"/dev/isola-quay/crew-roster": "crew-roster.raw", "/dev/mapper/isola--quay-crew--roster": "crew-roster.raw",
		"/dev/isola-quay/machines+2Fcrew": "machines/crew.raw", "/dev/sda": "", "/dev/isola/crew": "", "/dev/mapper/isola-quay-crew": "",
	} {
		name, ok := g.Name(at)
		assert.Equal(t, want != "", ok, at)
		if ok {
			assert.Equal(t, want, name)
		}
	}
	assert.Equal(t, "/srv/isola/crew.qcow2", g.Path("crew.qcow2"))
	assert.Equal(t, "/srv/quay/crew.raw", volumes.Ground{Folder: "/srv/quay"}.Path("crew.raw"))
}
