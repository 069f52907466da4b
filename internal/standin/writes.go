package standin

import (
	"bytes"
	"encoding/json"
	"fmt"
	"os"
	"path"
	"slices"
	"sync"
	"time"

	"bagaglio/core/disk"
	"bagaglio/core/machine"
)

// WritesLog is the file in the state folder with what guests wrote, a Written a line.
const WritesLog = "writes.log"

// Written is a sector that a guest wrote.
type Written struct {
	Machine string `json:"machine"` // UUID
	Offset  int64  `json:"offset"`
	Stamp   int64  `json:"stamp"`
}

// Sector is what was written.
func (w Written) Sector() []byte {
	text := fmt.Appendf(nil, "%s %d %d\n", w.Machine, w.Offset, w.Stamp)
	return bytes.Repeat(text, sector/len(text)+1)[:sector]
}

const (
	sector = 512
	// writesTo is the length of what a guest writes to, and before the end of its disk: the last mebibyte may have a partition table.
	writesTo, beforeEnd = 64 << 10, 1 << 20
	writesEvery         = 5 * time.Millisecond
)

// writer writes as a guest does, until it is stopped.
type writer struct {
	file   string
	from   int64 // offset on the disk, which is that in the file
	stops  chan struct{}
	writes sync.WaitGroup
	halted sync.Mutex // held while it is
}

// writerOf is one for a disk in a folder, or nil for one that does not store what is written as it is.
func writerOf(dir, name string, is disk.Description) *writer {
	data := slices.Clone(is.Files)
	if is.Format == "vmdk" && is.Layout == "flat" {
		data = slices.DeleteFunc(data, func(f string) bool { return f == name }) // which describes it
	} else if is.Format != "raw" {
		return nil
	}
	from := is.VirtualSize - beforeEnd - writesTo
	if len(data) != 1 || from < sector {
		return nil
	}
	return &writer{file: path.Join(dir, data[0]), from: from, stops: make(chan struct{})}
}

// write begins to write, each sector first and then its line in the log.
func (h *Host) write(s *start, m machine.Machine) {
	w := s.writes
	if w == nil {
		s.say("Nothing is written: the form of its disk is not one for that.")
		return
	}
	file, err := os.OpenFile(w.file, os.O_WRONLY, 0)
	if err != nil {
		s.say("Nothing is written: %v", err)
		return
	}
	w.writes.Go(func() {
		defer file.Close()
		ticks := time.NewTicker(writesEvery)
		defer ticks.Stop()
		for stamp := time.Now().UnixNano(); ; stamp++ {
			at := Written{Machine: m.UUID, Offset: w.from + stamp%(writesTo/sector)*sector, Stamp: stamp}
			w.halted.Lock()
			line, err := json.Marshal(at)
			if err == nil {
				_, err = file.WriteAt(at.Sector(), at.Offset)
			}
			if err == nil {
				_, err = h.log.Write(append(line, '\n'))
			}
			w.halted.Unlock()
			if err != nil {
				return
			}
			select {
			case <-w.stops:
				return
			case <-ticks.C:
			}
		}
	})
}

// stop returns once nothing is written any more.
func (w *writer) stop() {
	if w != nil {
		close(w.stops)
		w.writes.Wait()
	}
}

// halt has nothing written until it goes on.
func (w *writer) halt() {
	if w != nil {
		w.halted.Lock()
	}
}

func (w *writer) goOn() {
	if w != nil {
		w.halted.Unlock()
	}
}
