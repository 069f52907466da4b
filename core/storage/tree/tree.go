// Package tree carries folders as a whole by the tools of the system that they lie on: find(1), tar(1) and dd(1) of GNU.
package tree

import (
	"bufio"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"

	"bagaglio/core/storage"
)

// Shell runs a command of the POSIX shell where the folder lies. An error has what the command said about it.
type Shell func(ctx context.Context, command string, in io.Reader, out io.Writer) error

// The commands, each with the folder as one word of the shell.
const (
	// looks prints an entry a record: kind, device, bytes, blocks of 512 bytes, name, and then all that changes with it. The folder itself has no name.
	looks = `cd -- %s && LC_ALL=C exec find . -xdev -printf '%%y/%%D/%%s/%%b/%%P\0%%m %%U %%G %%n %%T@ %%i %%C@ %%l\0'`
	// packs leaves out when something was read or changed last: no archive brings that back.
	packs = `cd -- %s && LC_ALL=C exec tar --create --file=- --format=pax --pax-option=delete=atime,delete=ctime --sort=name --numeric-owner ` +
		`--xattrs --xattrs-include='*' --acls --sparse --one-file-system .`
	unpacks = `umask 077 && mkdir -p -- "$(dirname -- %[1]s)" && mkdir -- %[1]s && cd -- %[1]s && LC_ALL=C tar --extract --file=- --numeric-owner ` +
		`--same-owner --same-permissions --xattrs --xattrs-include='*' --acls && exec sync -f .`
	// forgets has the memory in front of the storage let go of what it has of each file.
	forgets = `cd -- %s && exec find . -xdev -type f -exec sh -c 'for f; do dd if="$f" iflag=nocache count=0 status=none; done' sh {} +`
)

// Look looks through a folder, by its path there.
func Look(ctx context.Context, run Shell, path string) (storage.Tree, error) {
	out, in := io.Pipe()
	done := make(chan error, 1)
	go func() {
		err := run(ctx, fmt.Sprintf(looks, quote(path)), nil, in)
		done <- errors.Join(err, in.CloseWithError(err))
	}()
	t, err := read(out)
	_ = out.CloseWithError(err) // nothing more is read
	return t, errors.Join(err, <-done)
}

// maxRecord bounds what is said of one entry, in bytes: a name and what a link leads to are 4096 at most (PATH_MAX).
const maxRecord = 16 << 10

// read reads what the look printed. It comes in the order that the filesystem has, which says nothing.
func read(from io.Reader) (t storage.Tree, err error) {
	var all [][sha256.Size]byte
	device := ""
	records := bufio.NewScanner(from)
	records.Buffer(nil, maxRecord)
	records.Split(record)
	for records.Scan() {
		head := strings.SplitN(records.Text(), "/", 5)
		if len(head) < 5 || !records.Scan() {
			return t, errors.New("the look through the folder was cut off")
		}
		kind, on, name := head[0], head[1], head[4]
		if name == "" { // the folder itself: its times change with its own name
			device = on
			facts := strings.Fields(records.Text())
			all = append(all, sha256.Sum256([]byte(strings.Join(facts[:min(3, len(facts))], " "))))
			continue
		}
		size, sizeErr := strconv.ParseInt(head[2], 10, 64)
		blocks, blocksErr := strconv.ParseInt(head[3], 10, 64)
		if err := errors.Join(sizeErr, blocksErr); err != nil {
			return t, fmt.Errorf("reading the look through the folder: %w", err)
		}
		t.Entries++
		t.Room += blocks * 512
		switch {
		case on != device:
			t.Mounts = append(t.Mounts, name)
		case kind == "f":
			t.Size += size
		case kind == "s":
			t.Sockets++
		}
		all = append(all, sha256.Sum256(fmt.Appendf(nil, "%s\x00%d\x00%s\x00%s", kind, size, name, records.Text())))
	}
	if err := records.Err(); err != nil {
		return t, err
	}
	if device == "" {
		return t, errors.New("the look through the folder told nothing: it takes find(1) of GNU")
	}
	slices.SortFunc(all, func(a, b [sha256.Size]byte) int { return strings.Compare(string(a[:]), string(b[:])) })
	sum := sha256.New()
	for _, one := range all {
		sum.Write(one[:])
	}
	t.Seen = hex.EncodeToString(sum.Sum(nil))
	return t, nil
}

// record ends with a zero byte.
func record(data []byte, _ bool) (advance int, token []byte, err error) {
	if i := slices.Index(data, 0); i >= 0 {
		return i + 1, data[:i], nil
	}
	return 0, nil, nil
}

// Pack writes what lies in a folder as one archive.
func Pack(ctx context.Context, run Shell, path string, to io.Writer, fresh bool) error {
	if fresh {
		if err := run(ctx, fmt.Sprintf(forgets, quote(path)), nil, io.Discard); err != nil {
			return err
		}
	}
	return run(ctx, fmt.Sprintf(packs, quote(path)), nil, to)
}

// Unpack makes a folder of an archive.
func Unpack(ctx context.Context, run Shell, path string, from io.Reader) error {
	return run(ctx, fmt.Sprintf(unpacks, quote(path)), from, io.Discard)
}

// quote makes one word of a shell command of a text (POSIX, Shell Command Language, 2.2.2).
func quote(s string) string { return "'" + strings.ReplaceAll(s, "'", `'\''`) + "'" }
