package service

import (
	"bufio"
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"bagaglio/core/disk"
	"bagaglio/core/plan"
	"bagaglio/core/storage/local"
	"bagaglio/internal/demo"
	"bagaglio/internal/standin"
	"bagaglio/internal/testkit"
	"bagaglio/internal/testkit/standins"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// log is what guests of a host wrote, in order.
func log(t *testing.T, h *standins.Host) (all []standin.Written) {
	t.Helper()
	file, err := os.Open(filepath.Join(h.State, standin.WritesLog))
	require.NoError(t, err)
	defer file.Close()
	for lines := bufio.NewScanner(file); lines.Scan(); {
		var w standin.Written
		if json.Unmarshal(lines.Bytes(), &w) == nil { // the last line may be half there
			all = append(all, w)
		}
	}
	return all
}

// written is what guests of a host wrote last, by offsets.
func written(t *testing.T, h *standins.Host) map[int64]standin.Written {
	t.Helper()
	last := map[int64]standin.Written{}
	for _, w := range log(t, h) {
		last[w.Offset] = w
	}
	return last
}

// TestNothingThatAGuestWroteIsLost: a machine that writes all the time is shut down and goes on, to a host that takes flat files only, knows new
// ones only after it was told to look, and asks whether the machine was moved or copied; every write that its guest had done is there, on the
// way to that host and from it.
func TestNothingThatAGuestWroteIsLost(t *testing.T) {
	t.Parallel()
	s := start(t)
	quay := standins.Join(t, s.Service, "quay", "quay-store", standin.Traits{Writes: true})
	pier := standins.Join(t, s.Service, "pier", "pier-store", standin.Traits{Writes: true, Asks: true, Looks: true, Layouts: []string{"flat"}})
	quay.Ticketing(t, append(bootable(), make([]byte, 4<<20)...))
	from, to, pool := quay, pier, "pier-store"
	for _, came := range []string{"moved", "copied"} {
		_, err := s.StartMachine(t.Context(), map[*standins.Host]string{quay: "quay", pier: "pier"}[from], "ticketing")
		require.NoError(t, err)
		require.Eventually(t, func() bool { return len(written(t, from)) > 50 }, time.Minute, 10*time.Millisecond, "its guest writes")
		r := plan.Request{
			Kind: plan.MoveMachine, Machine: "quay:ticketing", To: "pier", Destination: &plan.Place{Pool: pool}, Stop: true, Start: true,
		}
		if came == "copied" {
			r.Kind, r.Machine, r.Name, r.Stop = plan.CopyMachine, "pier:ticketing", "ticketing-trial", false
			_, err := s.StopMachine(t.Context(), "pier", "ticketing", 10, false)
			require.NoError(t, err)
		}
		done := testkit.Proven(t, s.Service, testkit.Begin(t, s.Service, r).Id)
		require.True(t, done.Machine.CameUp)
		assert.Contains(t, done.Machine.Evidence[0], `was answered "`+came+`"`)

		name := r.Name
		if name == "" {
			name = "ticketing"
		}
		_, err = s.StopMachine(t.Context(), "pier", name, 10, false)
		require.NoError(t, err)
		last := written(t, from)
		m, err := s.Machine(t.Context(), "pier", name)
		require.NoError(t, err)
		folder, err := local.Open(filepath.Dir(m.Is.Disks[0].File))
		require.NoError(t, err)
		image, err := disk.Open(t.Context(), folder, filepath.Base(m.Is.Disks[0].File), "")
		require.NoError(t, err)
		assert.Equal(t, "flat", image.Describe().Layout)
		newer := written(t, to)
		for offset, w := range last {
			if again, ok := newer[offset]; ok && again.Stamp > w.Stamp { // its guest went on there
				w = again
			}
			sector := make([]byte, 512)
			_, err := image.ReadAt(sector, offset)
			require.NoError(t, err)
			require.Equal(t, string(w.Sector()), string(sector), "at %d", offset)
		}
		require.NoError(t, image.Close())
		require.NoError(t, folder.Close())
		from = pier
	}
}

// TestWhatAStandInStarts: what it reads of a disk is what decides whether a machine comes up: its boot code or loader, and the system on it.
func TestWhatAStandInStarts(t *testing.T) {
	t.Parallel()
	if err := demo.CheckTools(); err != nil {
		t.Skip(err)
	}
	label := func(f *os.File) error { _, err := f.WriteAt([]byte("other\x00"), 34<<20+1024+0x78); return err }
	for _, c := range []struct {
		firmware, shows string
		damage          func(*os.File) error
	}{
		{"bios", "Root tide-board, of tide-board", nil},
		{"uefi", "Loading from hda EFI/BOOT/BOOTX64.EFI", nil},
		{"bios", "Cannot go on: no root filesystem tide-board", label},
		{"bios", "No boot code found.", func(f *os.File) error { _, err := f.WriteAt(make([]byte, 440), 0); return err }},
		{"uefi", "No loader found", func(f *os.File) error { _, err := f.WriteAt(make([]byte, 32<<20), 1<<20); return err }},
		{"bios", "Cannot go on: no kernel found", func(f *os.File) error { _, err := f.WriteAt(make([]byte, 32<<20), 1<<20); return err }},
	} {
		h := standins.Start(t, t.TempDir(), standin.Traits{})
		path, err := demo.MakeDisk(t.Context(), h.Folder, "tide-board")
		require.NoError(t, err)
		if c.damage != nil {
			f, err := os.OpenFile(path, os.O_RDWR, 0)
			require.NoError(t, err)
			require.NoError(t, c.damage(f))
			require.NoError(t, f.Close())
		}
		text := strings.Replace(standins.Definition("tide-board", standins.TicketingID, path, "raw"), "bios", c.firmware, 1)
		_, err = h.Define([]byte(text))
		require.NoError(t, err)
		_, err = h.Start(t.Context(), standin.Which{Name: "tide-board"})
		require.NoError(t, err)
		seen, err := h.See(standin.Which{Name: "tide-board"})
		require.NoError(t, err)
		assert.Contains(t, seen.Console, c.shows)
		assert.Equal(t, c.damage == nil, seen.Up, seen.Console)
	}
}
