package machines

import (
	"context"
	"errors"
	"fmt"
	"path"
	"slices"
	"sync"
	"time"

	"bagaglio/core/host"
	"bagaglio/core/machine"
	"bagaglio/core/plan"
	"bagaglio/core/step"
	"bagaglio/core/storage"
	"bagaglio/core/storage/volumes"
	"bagaglio/internal/store"

	"golang.org/x/sync/singleflight"
)

// Watched returns the folder of a pool with an eye on the machines of its host, where something is known that runs them there: a disk of one
// that is not off is in use, also where the storage cannot tell. With suspended, one that only suspended machines use is not, whatever the
// storage tells of them.
func (m *Machines) Watched(ctx context.Context, p store.Pool, folder storage.Folder, suspended bool) (storage.Folder, error) {
	hosts, err := m.records.Running(ctx)
	if err != nil || !slices.ContainsFunc(hosts, func(r store.Runs) bool { return r.Host == p.Host }) {
		return folder, err
	}
	return watched{folder, usage{m, folder, p.Host, p.Ground(), suspended}}, nil
}

// watched is comparable: the same folder in front of the same machines is the same one.
type watched struct {
	storage.Folder
	usage usage
}

// Unwrap is for everything else that the folder can do.
func (w watched) Unwrap() storage.Folder { return w.Folder }

// Adds is the knowledge of what machines use.
func (w watched) Adds() any { return w.usage }

type usage struct {
	machines *Machines
	folder   storage.Folder
	host     string
	root     volumes.Ground // where the pool lies on its host
	// suspended tells that a machine may use a file which is suspended.
	suspended bool
}

// use is how a machine uses a file.
type use struct {
	what      string // in words
	suspended bool
}

// InUse asks the storage first. A host that cannot be asked counts as one that uses the file.
func (u usage) InUse(name string) (string, error) {
	if u.suspended {
		used, err := u.machines.used(u.host)
		if by, ok := u.of(used, name); err == nil && ok && by.suspended {
			return "", nil
		}
	}
	if below, ok := storage.As[storage.Usage](u.folder); ok {
		if why, err := below.InUse(name); err != nil || why != "" {
			return why, err
		}
	}
	used, err := u.machines.used(u.host)
	if err != nil {
		return "", fmt.Errorf(
			`%w, for all that is known: the machines of the host %s cannot be asked for: %w; see that it is there, or say that it runs none (bagaglio host change %s --runs "")`,
			step.ErrInUse,
			u.host,
			err,
			u.host,
		)
	}
	by, _ := u.of(used, name)
	return by.what, nil
}

// of finds who uses a file, by any of its paths.
func (u usage) of(used map[string]use, name string) (by use, ok bool) {
	for _, at := range u.root.Paths(name) {
		if by, ok = used[at]; ok {
			break
		}
	}
	return by, ok
}

// How long an answer of a host is good for, and how long it has time to give one.
const (
	freshFor = 2 * time.Second
	askFor   = 15 * time.Second
)

// answers are what hosts told last of files that machines use.
type answers struct {
	asking singleflight.Group // by hosts
	mu     sync.Mutex
	of     map[string]answer
}

type answer struct {
	at   time.Time
	used map[string]use // by paths on the host
	err  error
}

// used are the files of disks of machines of a host that are not off.
func (m *Machines) used(on string) (map[string]use, error) {
	m.answers.mu.Lock()
	a, ok := m.answers.of[on]
	m.answers.mu.Unlock()
	if ok && time.Since(a.at) < freshFor {
		return a.used, a.err
	}
	told, _, _ := m.answers.asking.Do(on, func() (any, error) {
		a := answer{at: time.Now()}
		ctx, cancel := context.WithTimeout(context.Background(), askFor) // who asks has none
		defer cancel()
		a.used, a.err = m.askUsed(ctx, on)
		m.answers.mu.Lock()
		defer m.answers.mu.Unlock()
		m.answers.of[on] = a
		return a, nil
	})
	a = told.(answer)
	return a.used, a.err
}

func (m *Machines) askUsed(ctx context.Context, on string) (map[string]use, error) {
	used := map[string]use{}
	err := m.ask(ctx, on, func(h host.Host) error {
		all, err := h.Machines(ctx)
		for _, x := range all {
			if x.State == host.Off {
				continue
			}
			for _, text := range [][]byte{x.Definition, x.Live} {
				is, err := machine.Describe(x.Format, text)
				if err != nil {
					return fmt.Errorf("the definition of %s, which is %s, cannot be read: %w", x.Name, x.State, err)
				}
				for _, d := range slices.Concat(is.Disks, is.Drives) {
					name, err := file(ctx, h, d)
					if err != nil {
						return fmt.Errorf("looking for the disk %s of %s, which is %s: %w", d.Slot, x.Name, x.State, err)
					}
					if name != "" {
						name, by := path.Clean(name), use{
							fmt.Sprintf("the machine %s:%s is %s", on, storage.Printable(x.Name), x.State), x.State == host.Suspended,
						}
						if other, ok := used[name]; !ok || other.suspended { // what runs counts before what does not
							used[name] = by
						}
					}
				}
			}
		}
		return err
	})
	return used, err
}

// Naming returns the machines of hosts, running or not, that name one of the files in a pool, as a disk or for the variables of their firmware. It fails where a host cannot be asked: nobody knows then.
func (m *Machines) Naming(ctx context.Context, pool string, files []string) (users []plan.User, err error) {
	all, away, err := m.List(ctx, "")
	if err == nil && len(away) > 0 {
		err = fmt.Errorf("whether a machine of the host %s names it is not known: %w", away[0].Host, away[0].Why)
	}
	for _, x := range all {
		if slices.ContainsFunc(
			append(slices.Clone(x.Disks), x.Variables),
			func(d Disk) bool { return d.InPool == pool && slices.Contains(files, d.Path) },
		) {
			users = append(users, plan.User{Name: called(x)})
			continue
		}
		kept, keptErr := m.keepsOne(ctx, x, pool, files)
		if err = errors.Join(err, keptErr); kept {
			users = append(users, plan.User{Name: called(x)})
		}
	}
	return users, err
}

// keepsOne tells whether the host of a machine keeps one of the files in a pool for a snapshot of it.
func (m *Machines) keepsOne(ctx context.Context, x Machine, pool string, files []string) (bool, error) {
	all, err := guests{m, x.Host}.Snapshots(ctx, x.Machine)
	if errors.Is(err, errors.ErrUnsupported) || errors.Is(err, host.ErrRefused) || errors.Is(err, host.ErrNoMachine) {
		return false, nil
	}
	for _, k := range all {
		for _, file := range k.Files {
			at, err := m.Lying(ctx, x.Host, machine.Disk{File: file})
			if err != nil {
				return false, err
			}
			if at.Pool == pool && slices.Contains(files, at.Path) {
				return true, nil
			}
		}
	}
	return false, err
}

// forget makes the next one ask a host again.
func (m *Machines) forget(on string) {
	m.answers.mu.Lock()
	defer m.answers.mu.Unlock()
	delete(m.answers.of, on)
}
