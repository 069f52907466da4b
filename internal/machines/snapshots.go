package machines

import (
	"context"
	"fmt"
	"path"
	"slices"
	"time"

	"bagaglio/core/disk"
	"bagaglio/core/host"
	"bagaglio/core/machine"
	"bagaglio/internal/records"
	"bagaglio/internal/store"
)

// Snapshot is a state of a machine that its host keeps.
type Snapshot struct {
	host.Snapshot
	// Room is what it takes in pools and nothing else needs, in bytes; nil where that is not known.
	Room *int64
}

// countFor is for how long the room of the snapshots of a disk is counted.
const countFor = 5 * time.Second

// Snapshots are the states of a machine that its host keeps, older ones first; errors.ErrUnsupported tells that its kind keeps none.
func (m *Machines) Snapshots(ctx context.Context, on, name string) ([]Snapshot, error) {
	x, err := m.Show(ctx, on, name)
	if err != nil {
		return nil, err
	}
	found, err := guests{m, on}.Snapshots(ctx, x.Machine)
	if err != nil {
		return nil, fmt.Errorf("machine %s:%s: %w", on, name, err)
	}
	pools, err := m.records.Pools(ctx)
	if err != nil {
		return nil, err
	}
	inside := m.keptInside(ctx, x)
	all := []Snapshot{}
	for _, s := range found {
		s := Snapshot{Snapshot: s}
		if len(s.Layers) > 0 { // without the snapshot they would not be
			s.Room = m.roomOf(ctx, on, s.Layers, pools)
		} else if len(s.Files) > 0 {
			s.Room = m.roomOf(ctx, on, s.Files, pools)
		} else if room, ok := inside[s.Name]; ok {
			s.Room = &room
		}
		all = append(all, s)
	}
	return all, nil
}

// keptInside is the room that snapshots inside of the images of a machine take, by their names. What cannot be counted is left out.
func (m *Machines) keptInside(ctx context.Context, x Machine) map[string]int64 {
	rooms := map[string]int64{}
	ctx, cancel := context.WithTimeout(ctx, countFor)
	defer cancel()
	for _, d := range x.Disks {
		if d.InPool == "" {
			continue
		}
		folder, err := m.places.Folder(ctx, d.InPool)
		if err != nil {
			return nil
		}
		r, err := disk.Open(ctx, folder, d.Path, d.Format)
		if err != nil {
			return nil
		}
		if keeper, ok := r.(disk.Keeper); ok {
			var kept []disk.Kept
			kept, err = keeper.Kept(ctx)
			for _, k := range kept {
				rooms[k.Name] += k.Room
			}
		}
		_ = r.Close() // it was only read
		if err != nil {
			return nil
		}
	}
	return rooms
}

// roomOf is what files on a host take that lie in pools; nil where one lies in none.
func (m *Machines) roomOf(ctx context.Context, on string, files map[string]string, pools []store.Pool) *int64 {
	room := int64(0)
	for _, at := range files {
		d := lying(machine.Disk{}, on, at, pools)
		if d.InPool == "" {
			return nil
		}
		folder, err := m.places.Folder(ctx, d.InPool)
		if err != nil {
			return nil
		}
		info, err := folder.Stat(d.Path)
		if err != nil {
			return nil
		}
		room += info.Taken()
	}
	return &room
}

// ShowSnapshot is a machine as it was when its host kept a state of it: with the disks of then, which lie in files of their own or as snapshots inside
// of their images.
func (m *Machines) ShowSnapshot(ctx context.Context, on, name, snapshot string) (Machine, host.Snapshot, error) {
	x, err := m.Show(ctx, on, name)
	if err != nil {
		return x, host.Snapshot{}, err
	}
	all, err := guests{m, on}.Snapshots(ctx, x.Machine)
	if err != nil {
		return x, host.Snapshot{}, fmt.Errorf("machine %s:%s: %w", on, name, err)
	}
	i := slices.IndexFunc(all, func(s host.Snapshot) bool { return s.Name == snapshot })
	if i < 0 {
		return x, host.Snapshot{}, fmt.Errorf("the snapshot %s of the machine %s:%s: %w", snapshot, on, name, store.ErrNotFound)
	}
	s := all[i]
	if s.Definition == nil {
		return x, s, fmt.Errorf("%w: %s does not tell what %s was like in its snapshot %s", records.ErrState, on, name, snapshot)
	}
	pools, err := m.records.Pools(ctx)
	if err != nil {
		return x, s, err
	}
	then := x.Machine
	then.Definition, then.Live = s.Definition, nil
	err = m.ask(ctx, on, func(h host.Host) error {
		x = describe(ctx, h, on, then, pools)
		return nil
	})
	for i, d := range x.Disks {
		at, apart := s.Files[path.Clean(d.File)]
		if apart {
			x.Disks[i] = lying(d.Disk, on, at, pools)
		} else {
			x.Disks[i].Snapshot = s.Name
		}
	}
	return x, s, err
}
