package volumes

import (
	"errors"
	"fmt"
	"strconv"
	"strings"
	"time"
)

// zfs are the tools of ZFS (zfs(8)).
type zfs struct {
	set
	on Computer
}

// block is what sizes of volumes are multiples of: more than any volblocksize needs (zfsprops(7)).
const block = 1 << 20

func (z *zfs) unit() (int64, error) { return block, nil }

func (z *zfs) list() (all []volume, err error) {
	said, err := run(z.on, "zfs", "list", "-H", "-p", "-d", "1", "-t", "volume", "-o", "name,volsize,guid,referenced,creation", z.group)
	if err != nil {
		return nil, err
	}
	for line := range strings.Lines(said) {
		words := strings.Split(strings.TrimSpace(line), "\t")
		if len(words) != 5 {
			return nil, fmt.Errorf("what zfs prints is not understood: %q", line)
		}
		size, err := strconv.ParseInt(words[1], 10, 64)
		room, roomErr := strconv.ParseInt(words[3], 10, 64)
		made, madeErr := strconv.ParseInt(words[4], 10, 64)
		if err != nil || roomErr != nil || madeErr != nil {
			return nil, fmt.Errorf("what zfs prints is not understood: %q", line)
		}
		name := strings.TrimPrefix(words[0], z.group+"/")
		all = append(all, volume{name: name, path: z.kind.dir + "/" + words[0], id: words[2], size: size, room: room, made: time.Unix(made, 0)})
	}
	return all, nil
}

// opened prints whether a program has a device open, or it is mounted or swapped to. ZFS itself does not tell.
const opened = `dev=$(readlink -f "$1"); grep -q "^$dev[p ]" /proc/mounts /proc/swaps && { echo open; exit; }
[ -z "$(find /proc/[0-9]*/fd -lname "$dev" -print -quit 2>/dev/null)" ] || echo open`

func (z *zfs) isOpen(v volume) (bool, error) {
	said, err := run(z.on, "sh", "-c", opened, "sh", v.path)
	return strings.TrimSpace(said) == "open", err
}

func (z *zfs) room() (total, free int64, err error) {
	said, err := run(z.on, "zfs", "get", "-H", "-p", "-o", "value", "used,available", z.group)
	if err != nil {
		return 0, 0, err
	}
	var used int64
	if _, err := fmt.Sscan(said, &used, &free); err != nil {
		return 0, 0, fmt.Errorf("what zfs prints is not understood: %w", err)
	}
	return used + free, free, nil
}

// appears waits until the system has made the device of a volume.
const appears = `n=0; until [ -e "$1" ]; do n=$((n+1)); [ $n -lt 100 ] || exit 1; sleep 0.1; done`

func (z *zfs) zeros() bool { return true }

func (z *zfs) make(name string, size int64) error {
	of := z.group + "/" + name
	if _, err := run(z.on, "zfs", "create", "-s", "-V", strconv.FormatInt(size, 10), of); err != nil {
		return err
	}
	_, err := run(z.on, "sh", "-c", appears, "sh", z.kind.dir+"/"+of)
	return err
}

func (z *zfs) grow(name string, size int64) error {
	_, err := run(z.on, "zfs", "set", "volsize="+strconv.FormatInt(size, 10), z.group+"/"+name)
	return err
}

func (z *zfs) rename(from, to string) error {
	_, err := run(z.on, "zfs", "rename", z.group+"/"+from, z.group+"/"+to)
	return err
}

func (z *zfs) snapshot(of volume, name string) error {
	from, to := z.group+"/"+of.name+"@"+name, z.group+"/"+name
	_, _ = run(z.on, "zfs", "destroy", from) // of an earlier time that was killed; mostly there is none
	if _, err := run(z.on, "zfs", "snapshot", from); err != nil {
		return err
	}
	if _, err := run(z.on, "zfs", "clone", from, to); err != nil {
		_, dropErr := run(z.on, "zfs", "destroy", from)
		return errors.Join(err, dropErr)
	}
	_, err := run(z.on, "sh", "-c", appears, "sh", z.kind.dir+"/"+to)
	return err
}

func (z *zfs) drop(of, name string) error {
	if err := z.remove(name); err != nil {
		return err
	}
	_, err := run(z.on, "zfs", "destroy", z.group+"/"+of+"@"+name)
	return err
}

func (z *zfs) remove(name string) error {
	_, err := run(z.on, "zfs", "destroy", z.group+"/"+name)
	return err
}
