package hdd

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"os"
	"path/filepath"
	"testing"

	"bagaglio/core/disk"
	"bagaglio/core/storage/local"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// put writes an expanding image of 4 MiB in dir that has a MiB of fill at the given MiB.
func put(t *testing.T, dir, name string, fill byte, at int64) {
	t.Helper()
	folder, err := local.Open(dir)
	require.NoError(t, err)
	defer folder.Close()
	w, err := create(disk.Target{Folder: folder, Name: name, Size: 4 * mib, Layout: expanding})
	require.NoError(t, err)
	_, err = w.WriteAt(bytes.Repeat([]byte{fill}, mib), at*mib)
	require.NoError(t, err)
	require.NoError(t, w.Commit(t.Context()))
}

// read opens a disk in dir and returns the first byte of each MiB.
func read(t *testing.T, dir, name string) ([]byte, disk.Description) {
	t.Helper()
	folder, err := local.Open(dir)
	require.NoError(t, err)
	defer folder.Close()
	r, err := disk.Open(t.Context(), folder, name, "")
	require.NoError(t, err)
	defer r.Close()
	require.NoError(t, r.(disk.Checker).Check(t.Context()))
	var bytes []byte
	b := make([]byte, 1)
	for at := int64(0); at < r.Size(); at += mib {
		_, err := r.ReadAt(b, at)
		require.NoError(t, err)
		bytes = append(bytes, b[0])
	}
	return bytes, r.Describe()
}

func storageXML(start, end int, images string) string {
	return fmt.Sprintf("<Storage><Start>%d</Start><End>%d</End>%s</Storage>", start, end, images)
}

func imageXML(id, kind, file string) string {
	return fmt.Sprintf("<Image><GUID>{%s}</GUID><Type>%s</Type><File>%s</File></Image>", id, kind, file)
}

func bundleXML(size int, storages, snapshots string) []byte {
	return fmt.Appendf(
		nil,
		"<disk><Disk_Parameters><Disk_size>%d</Disk_size></Disk_Parameters><StorageData>%s</StorageData><Snapshots>%s</Snapshots></disk>",
		size,
		storages,
		snapshots,
	)
}

const mibSectors = mib / sector

// TestBundleWithSnapshotsAndSplitStorage: the present state is what shows, layer by layer and range by range.
func TestBundleWithSnapshotsAndSplitStorage(t *testing.T) {
	dir := t.TempDir()
	inside := filepath.Join(dir, "ferry.hdd")
	require.NoError(t, os.Mkdir(inside, 0o700))
	put(t, inside, "base.hds", 1, 0)
	put(t, inside, "middle.hds", 2, 1)
	put(t, inside, "top.hds", 3, 0)
	require.NoError(t, os.WriteFile(filepath.Join(inside, "plain"), bytes.Repeat([]byte{9}, 2*mib), 0o600))
	layers := imageXML("a", "Compressed", "base.hds") + imageXML("b", "Compressed", "middle.hds") + imageXML("c", "Compressed", "top.hds")
	storages := storageXML(0, 4*mibSectors, layers) + storageXML(4*mibSectors, 6*mibSectors, imageXML("a", "Plain", "plain"))
	shots := "<Shot><GUID>{a}</GUID><ParentGUID>" + nothing + "</ParentGUID></Shot><Shot><GUID>{b}</GUID><ParentGUID>{a}</ParentGUID></Shot>" +
		"<Shot><GUID>{c}</GUID><ParentGUID>{b}</ParentGUID></Shot>"
	descriptor := filepath.Join(inside, descriptorName)
	require.NoError(t, os.WriteFile(descriptor, bundleXML(6*mibSectors, storages, shots), 0o600))
	got, about := read(t, dir, "ferry.hdd")
	assert.Equal(t, []byte{3, 2, 0, 0, 9, 9}, got)
	assert.Len(t, about.Files, 5)
	assert.Equal(t, []string{"{a}", "{b}"}, about.Snapshots)

	// An earlier state by its name.
	folder, err := local.Open(dir)
	require.NoError(t, err)
	defer folder.Close()
	r, err := disk.Origin{Folder: folder, Name: "ferry.hdd", Snapshot: "{a}"}.Open(t.Context(), "")
	require.NoError(t, err)
	defer r.Close()
	b := make([]byte, 1)
	_, err = r.ReadAt(b, mib)
	require.NoError(t, err)
	assert.Equal(t, []byte{0}, b)
	_, err = disk.Origin{Folder: folder, Name: "ferry.hdd", Snapshot: "{d}"}.Open(t.Context(), "")
	require.ErrorContains(t, err, "no snapshot")

	// An earlier state, when it is the present one.
	require.NoError(t, os.WriteFile(descriptor, bundleXML(6*mibSectors, storages, "<TopGUID>{b}</TopGUID>"+shots), 0o600))
	got, _ = read(t, dir, "ferry.hdd")
	assert.Equal(t, []byte{1, 2, 0, 0, 9, 9}, got)

	for name, xml := range map[string][]byte{
		"gap":                    bundleXML(6*mibSectors, storageXML(1, 4*mibSectors, layers), shots),
		"too short":              bundleXML(9*mibSectors, storages, shots),
		"a circle":               bundleXML(6*mibSectors, storages, "<TopGUID>{a}</TopGUID><Shot><GUID>{a}</GUID><ParentGUID>{b}</ParentGUID></Shot><Shot><GUID>{b}</GUID><ParentGUID>{a}</ParentGUID></Shot>"),
		"its own parent":         bundleXML(6*mibSectors, storages, "<Shot><GUID>{a}</GUID><ParentGUID>{a}</ParentGUID></Shot>"),
		"another its own parent": bundleXML(6*mibSectors, storages, shots+"<Shot><GUID>{d}</GUID><ParentGUID>{d}</ParentGUID></Shot>"),
		"two of one GUID":        bundleXML(6*mibSectors, storages, shots+"<Shot><GUID>{a}</GUID><ParentGUID>"+nothing+"</ParentGUID></Shot>"),
		"no image":               bundleXML(4*mibSectors, storageXML(0, 4*mibSectors, ""), shots),
		"a short image":          bundleXML(8*mibSectors, storageXML(0, 8*mibSectors, layers), shots),
		"no XML":                 []byte("ferry"),
		"an entity":              []byte(`<!DOCTYPE d [<!ENTITY x SYSTEM "file:///etc/passwd">]>` + string(bundleXML(4*mibSectors, storageXML(0, 4*mibSectors, imageXML("a", "Compressed", "&x;")), shots))),
	} {
		require.NoError(t, os.WriteFile(descriptor, xml, 0o600))
		folder, err := local.Open(dir)
		require.NoError(t, err)
		_, err = disk.Open(t.Context(), folder, "ferry.hdd", "")
		require.ErrorIs(t, err, disk.ErrDamaged, name)
		require.NoError(t, folder.Close())
	}
}

// TestTheOlderKind counts sectors, may have clusters of odd length, and says nothing of where data begins.
func TestTheOlderKind(t *testing.T) {
	const cluster = 63
	b := make([]byte, (7+2*cluster)*sector)
	le := binary.LittleEndian
	copy(b, markSectors)
	le.PutUint32(b[16:], version)
	le.PutUint32(b[28:], cluster)
	le.PutUint32(b[32:], 3)
	le.PutUint64(b[36:], 0xdead_0000_0000+2*cluster+10)
	le.PutUint32(b[44:], inUse)
	le.PutUint32(b[tableAt:], 7+cluster)
	le.PutUint32(b[tableAt+8:], 7)
	for i := range cluster * sector {
		b[7*sector+i], b[(7+cluster)*sector+i] = 'c', 'a'
	}
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "old.hdd"), b, 0o600))
	folder, err := local.Open(dir)
	require.NoError(t, err)
	defer folder.Close()
	r, err := disk.Open(t.Context(), folder, "old.hdd", "")
	require.NoError(t, err)
	defer r.Close()
	assert.True(t, r.Describe().Dirty)
	require.EqualValues(t, (2*cluster+10)*sector, r.Size())
	got := make([]byte, r.Size())
	_, err = r.ReadAt(got, 0)
	require.NoError(t, err)
	want := append(append(bytes.Repeat([]byte("a"), cluster*sector), make([]byte, cluster*sector)...), bytes.Repeat([]byte("c"), 10*sector)...)
	assert.True(t, bytes.Equal(want, got))
}
