package objects

import (
	"sync"

	"bagaglio/core/fingerprint"
)

// loaded is a part in memory.
type loaded struct {
	sync.Mutex
	data  []byte
	dirty bool
	used  int64 // when, on the clock of its file
}

// load returns a part, locked, with what the store has of it.
func (w *writer) load(i int) (*loaded, error) {
	w.mu.Lock()
	p := w.loaded[i]
	fetch := p == nil
	if fetch {
		p = &loaded{}
		p.Lock()
		w.loaded[i] = p
	}
	has := w.stored[i]
	w.clock++
	p.used = w.clock
	w.mu.Unlock()
	if !fetch {
		p.Lock()
		w.mu.Lock()
		still := w.loaded[i] == p
		w.mu.Unlock()
		if !still { // it was let go of meanwhile
			p.Unlock()
			return w.load(i)
		}
		return p, nil
	}
	if has.size == 0 {
		return p, nil
	}
	p.data = make([]byte, has.size, w.folder.part)
	if err := w.folder.read(w.name, partKey(w.key, i), has.tag, p.data, 0); err != nil {
		w.mu.Lock()
		delete(w.loaded, i)
		w.mu.Unlock()
		p.Unlock()
		return nil, err
	}
	return p, nil
}

// write writes into a part that is locked.
func (p *loaded) write(b []byte, in, most int64) {
	if end := in + int64(len(b)); int64(len(p.data)) < end {
		if int64(cap(p.data)) < end {
			grown := make([]byte, len(p.data), min(most, max(end, 2*int64(cap(p.data)))))
			copy(grown, p.data)
			p.data = grown
		}
		p.data = p.data[:end]
	}
	copy(p.data[in:], b)
	p.dirty = true
}

// shed sends the parts that were used longest ago, but for one, where too many are in memory.
func (w *writer) shed(but int) error {
	for {
		w.mu.Lock()
		oldest := -1
		if len(w.loaded) > mostLoaded {
			for i, p := range w.loaded {
				if i != but && (oldest < 0 || p.used < w.loaded[oldest].used) {
					oldest = i
				}
			}
		}
		w.mu.Unlock()
		if oldest < 0 {
			return nil
		}
		if err := w.send(oldest, true); err != nil {
			return err
		}
	}
}

// send sends a part that was written to, and lets go of it where that is wanted.
func (w *writer) send(i int, letGo bool) error {
	w.mu.Lock()
	p := w.loaded[i]
	w.mu.Unlock()
	if p == nil {
		return nil
	}
	p.Lock()
	defer p.Unlock()
	if p.dirty && !fingerprint.IsZero(p.data) {
		tag, err := w.folder.put(w.name, partKey(w.key, i), p.data, false)
		if err != nil {
			return err
		}
		w.mu.Lock()
		w.stored[i] = stored{int64(len(p.data)), tag}
		w.mu.Unlock()
	} else if p.dirty {
		w.mu.Lock()
		_, had := w.stored[i]
		delete(w.stored, i)
		w.mu.Unlock()
		if had {
			if err := w.folder.drop(w.name, partKey(w.key, i)); err != nil {
				return err
			}
		}
	}
	p.dirty = false
	if letGo {
		w.mu.Lock()
		if w.loaded[i] == p {
			delete(w.loaded, i)
		}
		w.mu.Unlock()
	}
	return nil
}

func (p *loaded) resize(size int64) {
	if int64(len(p.data)) > size {
		p.data = p.data[:size]
	} else {
		p.data = append(p.data, make([]byte, size-int64(len(p.data)))...)
	}
}
