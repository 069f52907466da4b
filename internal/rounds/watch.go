package rounds

import (
	"maps"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"time"

	"github.com/fsnotify/fsnotify"
)

const (
	// settle is for how long after a change others may follow before anybody looks.
	settle = 300 * time.Millisecond
	// share is what part of the time may go into looking at what changes all the while: one in so many.
	share = 3
	// mostWatched bounds the folders of one thing that the kernel watches for us. Of what has more, the times of the folders are looked at.
	mostWatched = 4096
	// glance is how often those are.
	glance = time.Second
)

// Watcher wants rounds of things whose folders change. Make one with [Watch].
type Watcher struct {
	rounds *Rounds
	kernel *fsnotify.Watcher // nil where the kernel does not watch
	done   chan struct{}
	busy   sync.WaitGroup

	mu      sync.Mutex
	things  map[string]*watched
	folders map[string][]string // names of things by folders that the kernel watches
}

// watched is a thing with its folders.
type watched struct {
	root    string
	id      os.FileInfo // of the root
	folders []string    // with their whole paths
	byTimes bool        // the kernel does not watch all of them
	times   map[string]time.Time
	pending bool
}

// Watch watches for rounds until it is closed.
func Watch(r *Rounds) *Watcher {
	kernel, err := fsnotify.NewBufferedWatcher(1024)
	if err != nil {
		kernel = nil // by the times, then
	}
	return watch(r, kernel)
}

func watch(r *Rounds, kernel *fsnotify.Watcher) *Watcher {
	w := &Watcher{rounds: r, kernel: kernel, done: make(chan struct{}), things: map[string]*watched{}, folders: map[string][]string{}}
	if kernel != nil {
		w.busy.Go(w.listen)
	}
	w.busy.Go(w.glance)
	return w
}

// Close ends the watching.
func (w *Watcher) Close() error {
	close(w.done)
	var err error
	if w.kernel != nil {
		err = w.kernel.Close()
	}
	w.busy.Wait()
	return err
}

// Set says which folders a thing has: root and those below, relative to it. Where some were not watched before, somebody looks again: what
// came into them meanwhile was told by nobody.
func (w *Watcher) Set(name, root string, folders []string) {
	w.mu.Lock()
	defer w.mu.Unlock()
	t := &watched{root: root, times: map[string]time.Time{}}
	t.id, _ = os.Stat(root) // what is not there is found out at the next glance
	old := w.things[name]
	if old != nil {
		t.pending = old.pending
		same := old.id != nil && t.id != nil && os.SameFile(old.id, t.id)
		w.drop(name, old, !same)
	}
	for _, f := range folders {
		t.folders = append(t.folders, filepath.Join(root, f))
	}
	if old == nil || !slices.Equal(old.folders, t.folders) {
		defer w.rounds.Want(name)
	}
	w.things[name] = t
	t.byTimes = w.kernel == nil || len(t.folders) > mostWatched
	for _, f := range t.folders {
		t.times[f] = modified(f)
		if t.byTimes {
			continue
		}
		if err := w.kernel.Add(f); err != nil { // gone, or the kernel watches as many as it may
			t.byTimes = true
			continue
		}
		w.folders[f] = append(w.folders[f], name)
	}
	if t.byTimes {
		w.drop(name, t, true)
	}
	if old != nil {
		w.drop(name, &watched{folders: slices.DeleteFunc(old.folders, func(f string) bool { return len(w.folders[f]) > 0 })}, true)
	}
}

// Forget ends the watching of one.
func (w *Watcher) Forget(name string) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if t := w.things[name]; t != nil {
		w.drop(name, t, true)
		delete(w.things, name)
	}
}

// drop forgets the folders of a thing; the kernel forgets those that nothing else has, when it should. The lock is held.
func (w *Watcher) drop(name string, t *watched, kernelToo bool) {
	for _, f := range t.folders {
		w.folders[f] = slices.DeleteFunc(w.folders[f], func(n string) bool { return n == name })
		if len(w.folders[f]) == 0 {
			delete(w.folders, f)
			if kernelToo && w.kernel != nil {
				_ = w.kernel.Remove(f) // it may be gone
			}
		}
	}
}

// modified is when names in a folder changed last; the zero time where that cannot be told.
func modified(folder string) time.Time {
	info, err := os.Stat(folder)
	if err != nil {
		return time.Time{}
	}
	return info.ModTime()
}

// listen hears what the kernel tells.
func (w *Watcher) listen() {
	for {
		select {
		case e, ok := <-w.kernel.Events:
			if !ok {
				return
			}
			w.changed(e.Name)
		case _, ok := <-w.kernel.Errors: // more happened than it could tell
			if !ok {
				return
			}
			w.mu.Lock()
			names := slices.Collect(maps.Keys(w.things))
			w.mu.Unlock()
			for _, name := range names {
				w.want(name)
			}
		}
	}
}

// changed wants a round of those that have a file, or a folder.
func (w *Watcher) changed(file string) {
	w.mu.Lock()
	names := slices.Concat(w.folders[file], w.folders[filepath.Dir(file)])
	w.mu.Unlock()
	for _, name := range names {
		w.want(name)
	}
}

// want wants a round when things have settled, and not so often that looking is all that is done.
func (w *Watcher) want(name string) {
	w.mu.Lock()
	defer w.mu.Unlock()
	t := w.things[name]
	if t == nil || t.pending {
		return
	}
	t.pending = true
	pause := settle
	if last, ok, _ := w.rounds.Last(name); ok {
		pause = max(pause, time.Until(last.Ended.Add(share*last.Ended.Sub(last.Began))))
	}
	time.AfterFunc(pause, func() {
		w.mu.Lock()
		if t := w.things[name]; t != nil {
			t.pending = false
		}
		w.mu.Unlock()
		w.rounds.Want(name)
	})
}

// glance looks now and then at what the kernel does not tell: whether a root is another folder now, and the times of folders.
func (w *Watcher) glance() {
	tick := time.NewTicker(glance)
	defer tick.Stop()
	for {
		select {
		case <-w.done:
			return
		case <-tick.C:
		}
		w.mu.Lock()
		things := maps.Clone(w.things)
		w.mu.Unlock()
		for name, t := range things {
			if t.stale() {
				w.want(name)
			}
		}
	}
}

// stale tells whether what can be seen at a glance is not what it was.
func (t *watched) stale() bool {
	now, err := os.Stat(t.root)
	if (err == nil) != (t.id != nil) || err == nil && !os.SameFile(now, t.id) {
		return true
	}
	return t.byTimes && slices.ContainsFunc(t.folders, func(f string) bool { return !modified(f).Equal(t.times[f]) })
}
