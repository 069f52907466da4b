package standin

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"sync"
	"sync/atomic"
	"time"

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
	// Ring is how many sectors a guest writes to in turn.
	Ring = writesTo / sector
)

// writer writes as a guest does, until it is stopped.
type writer struct {
	from   int64 // offset on the disk
	stops  chan struct{}
	writes sync.WaitGroup

	halted  sync.Mutex // held while it is
	to      target
	next    int64        // what it writes next: all that it has in memory
	written atomic.Int64 // bytes
}

// writerOf is one for a disk, or nil for one that does not store what is written as it is.
func (h *Host) writerOf(ctx context.Context, d machine.Disk) (*writer, error) {
	to, size, err := h.targetOf(ctx, d)
	if err != nil || to == nil {
		return nil, err
	}
	from := size - beforeEnd - writesTo
	if from < sector {
		return nil, to.Close()
	}
	return &writer{to: to, from: from, next: time.Now().UnixNano(), stops: make(chan struct{})}, nil
}

// write begins to write, each sector first and then its line in the log. A guest whose disk cannot be written to stands still until it can.
func (h *Host) write(s *start, m machine.Machine) {
	w := s.writes
	if w == nil {
		s.say("Nothing is written: the form of its disk is not one for that.")
		return
	}
	w.writes.Go(func() {
		ticks := time.NewTicker(writesEvery)
		defer ticks.Stop()
		for {
			w.halted.Lock()
			at := Written{Machine: m.UUID, Offset: w.from + w.next%Ring*sector, Stamp: w.next}
			line, err := json.Marshal(at)
			if err == nil {
				_, err = w.to.WriteAt(at.Sector(), at.Offset)
			}
			if err == nil {
				_, err = h.log.Write(append(line, '\n'))
			}
			if err == nil {
				w.next++
				w.written.Add(sector)
			}
			w.halted.Unlock()
			select {
			case <-w.stops:
				return
			case <-ticks.C:
			}
		}
	})
}

// goOver has it write to something else, while it is halted.
func (w *writer) goOver(to target) {
	_ = w.to.Close() // what it wrote is written
	w.to = to
}

// stop returns once nothing is written any more.
func (w *writer) stop() {
	if w != nil {
		close(w.stops)
		w.writes.Wait()
		_ = w.to.Close() // likewise
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
