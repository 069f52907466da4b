package volumes

import (
	"errors"
	"fmt"
	"io"
	"strings"
	"time"

	"bagaglio/core/storage"
	"bagaglio/core/storage/blocks"
)

// Computer is the computer that has the volumes.
type Computer interface {
	Start(script string, args ...string) (blocks.Script, error)
	// OpenVolume opens a block device, to be read past what the system remembers of it, or to be read and written.
	OpenVolume(path string, size int64, write bool) (storage.File, error)
}

// volume is one as its tools tell of it. Sizes are in bytes.
type volume struct {
	name string // without its group
	path string // of its block device
	id   string
	size int64
	room int64 // what it takes
	made time.Time
	open bool // by anybody, where list tells it
	thin bool // it takes its room when it is written to, and so do its snapshots
}

// tools are the system's own for a kind of volumes.
type tools interface {
	list() ([]volume, error)
	// isOpen tells whether anybody has a volume open.
	isOpen(v volume) (bool, error)
	// unit is what sizes are multiples of.
	unit() (int64, error)
	room() (total, free int64, err error)
	// zeros tells whether what is new of a volume reads as zeros.
	zeros() bool
	// make makes a volume, which never exists before, and returns when its device is there.
	make(name string, size int64) error
	grow(name string, size int64) error
	rename(from, to string) error
	// snapshot makes a volume that is what another one is at this moment, for as long as it is there.
	snapshot(of volume, name string) error
	// drop removes a snapshot of a volume.
	drop(of, name string) error
	remove(name string) error
}

// asRoot runs a tool with the rights that it takes. What it says goes where its output goes only when it fails.
const asRoot = `PATH=$PATH:/usr/sbin:/sbin; export LC_ALL=C; run=; [ "$(id -u)" = 0 ] || run="sudo -n"
exec 3>&1; said=$($run "$@" 2>&1 1>&3 3>&-); code=$?
[ $code = 0 ] || printf '\n%s' "$said"
exit $code`

// maxSaid bounds what a tool may print, in bytes.
const maxSaid = 32 << 20

// run runs a tool of the computer, and returns what it printed.
func run(on Computer, args ...string) (string, error) {
	s, err := on.Start(asRoot, args...)
	if err != nil {
		return "", err
	}
	b, err := io.ReadAll(io.LimitReader(s.Out, maxSaid))
	if err == nil && len(b) == maxSaid {
		err = fmt.Errorf("it printed more than %d bytes", maxSaid)
	}
	_, _ = io.Copy(io.Discard, s.Out) // it waits for a reader otherwise
	err = errors.Join(err, s.Wait())
	_ = s.In.Close() // its reader has ended
	if err != nil && !errors.Is(err, storage.ErrLost) {
		last := strings.TrimSpace(string(b))
		last = storage.Printable(last[strings.LastIndex(last, "\n")+1:])
		return string(b), fmt.Errorf("%s on the host: %s (%w)", args[0], last, err)
	}
	return string(b), err
}
