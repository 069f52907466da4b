package qcow2

import "bagaglio/core/disk"

// Locate tells where a cluster lies, or for how long nothing is stored.
func (w *writer) Locate(off int64) (disk.Place, error) {
	w.mu.Lock()
	defer w.mu.Unlock()
	p := disk.Place{Extent: disk.Extent{Off: off, Kind: disk.Hole}, File: w.target.Name}
	if w.l1[off/w.covers()] == 0 {
		p.Len = min(w.covers()-off%w.covers(), w.target.Size-off)
		return p, nil
	}
	entry, err := w.find(off)
	p.Len = min(w.cluster-off%w.cluster, w.target.Size-off)
	switch {
	case entry == zeroFlag:
		p.Kind = disk.Zero
	case entry != 0:
		p.Kind, p.At = disk.Data, int64(entry)+off%w.cluster
		// Clusters that lie behind each other, as far as the table goes, are read in large pieces.
		for p.Off+p.Len < w.target.Size && (off+p.Len)%w.covers() != 0 {
			if next, err := w.find(off + p.Len); err != nil || int64(next) != p.At+p.Len {
				break
			}
			p.Len = min(p.Len+w.cluster, w.target.Size-off)
		}
	}
	return p, err
}

// Checkpoint needs no more than the content on stable storage: the tables follow from it.
func (w *writer) Checkpoint() error { return w.file.Sync() }

// Resumed forgets the clusters behind those that it was told of.
func (w *writer) Resumed() error {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.file.Truncate(w.end)
}

func (w *writer) Close() error {
	if w.done {
		return nil
	}
	w.done = true
	return w.file.Close()
}
