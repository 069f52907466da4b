package sftp

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"path"
	"slices"
	"strings"

	"bagaglio/core/storage"
)

// tools are the standard programs (POSIX and GNU coreutils) that the host lets us run. Hosts that offer file transfer only have none.
type tools struct {
	names      []string
	filesystem string // that the folder lies on, as stat(1) names it
}

func (t tools) has(name string) bool { return slices.Contains(t.names, name) }

// wanted are the programs that are of use: to take a checksum, to sync a folder, to let go of a file in memory, to name the filesystem,
// and to tell the holes of a file.
var wanted = []string{"sha256sum", "sync", "dd", "stat", "tar", "head", "base64"}

// findTools asks for them. A host that lets nobody run anything answers something else, or nothing.
func (f *Folder) findTools(c *client) tools {
	var t tools
	found, err := c.shell("for t in " + strings.Join(wanted, " ") + "; do command -v $t >/dev/null && echo $t; done; true")
	if err != nil {
		return t
	}
	t.names = strings.Fields(found)
	if t.has("stat") {
		if out, err := c.shell("stat -f -c %T -- " + quote(f.dir)); err == nil {
			t.filesystem = storage.Printable(out)
		}
	}
	return t
}

// tellHoles tells whether they tell the holes of a file.
func (t tools) tellHoles() bool {
	return t.has("stat") && t.has("tar") && t.has("head") && t.has("base64")
}

// quote makes one word of a shell command of a text (POSIX, Shell Command Language, 2.2.2).
func quote(s string) string { return "'" + strings.ReplaceAll(s, "'", `'\''`) + "'" }

// bounded keeps what is written, up to a bound.
type bounded struct {
	bytes.Buffer
	left int
	full func() // is called when more comes
}

var errPrinted = errors.New("the host's command prints far more than it should")

func (b *bounded) Write(p []byte) (int, error) {
	if len(p) > b.left {
		b.full()
		return 0, errPrinted
	}
	b.left -= len(p)
	return b.Buffer.Write(p)
}

// Sums tells whether the host takes checksums for us.
func (f *Folder) Sums() bool { return f.tools.has("sha256sum") }

// SHA256 has the host take the checksum of a file, where it lets us run the tool.
func (f *Folder) SHA256(ctx context.Context, name string) (sum [sha256.Size]byte, err error) {
	if !f.tools.has("sha256sum") {
		return sum, errors.ErrUnsupported
	}
	var full string
	var c *client
	err = f.at(name, func(on *client, at spot) error {
		if at.err != nil {
			return at.err
		}
		if !at.info.Mode().IsRegular() {
			return fmt.Errorf("%s is no file", name)
		}
		c, full = on, at.full
		c.letGo(f.tools, full)
		return nil
	})
	if err != nil {
		return sum, err
	}
	out, err := c.run(ctx, "sha256sum < "+quote(full), maxSaid)
	if err != nil {
		return sum, fmt.Errorf("taking the SHA-256 of %s on the host: %w", name, err)
	}
	digest, _, _ := strings.Cut(out, " ")
	b, err := hex.DecodeString(digest)
	if err != nil || len(b) != len(sum) {
		return sum, fmt.Errorf("taking the SHA-256 of %s on the host: its tool said something else", name)
	}
	return [sha256.Size]byte(b), nil
}

// run runs a command that may take hours, in a session of its own, and returns what it prints, at most so many bytes.
func (c *client) run(ctx context.Context, command string, most int) (string, error) {
	if ctx.Err() != nil { // otherwise a quick tool might be done before anybody minds
		return "", context.Cause(ctx)
	}
	session, err := newSession(c.wires[0])
	if err != nil {
		return "", err
	}
	defer session.Close()
	stop := context.AfterFunc(ctx, func() { _ = session.Close() })
	defer stop()
	over := false
	out := &bounded{left: most, full: func() {
		over = true
		_ = session.Close() // nothing more of it is wanted
	}}
	session.Stdout = out
	if err := session.Run(command); err != nil {
		if ctx.Err() != nil {
			err = ctx.Err()
		} else if over {
			err = errPrinted
		}
		return "", plain(err)
	}
	return out.String(), nil
}

// letGo has the host forget what it has of a file in its memory, so that what is read next comes from its storage. Where that cannot be
// done, the host may answer from its memory.
func (c *client) letGo(t tools, full string) {
	if t.has("dd") {
		_, _ = c.shell("dd if=" + quote(full) + " iflag=nocache count=0 2>/dev/null") // only advice
	}
}

// syncFolder has the host write the names in a folder to its storage.
func (c *client) syncFolder(t tools, full string) error {
	if !t.has("sync") {
		return nil
	}
	if _, err := c.shell("sync " + quote(full)); err != nil {
		return fmt.Errorf("syncing the folder %s on the host: %w", path.Base(full), err)
	}
	return nil
}

// canSync tells whether the host can sync files.
func (c *client) canSync() bool {
	_, ok := c.sftp.HasExtension("fsync@openssh.com")
	return ok
}

// Caveats say what this host cannot promise.
func (f *Folder) Caveats() (caveats []string) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.conn != nil && !f.conn.canSync() {
		caveats = append(caveats, "the host does not let files be synced: what is written may be lost when its power fails soon after")
	}
	if !f.tools.has("sync") {
		caveats = append(caveats, "the host does not let names be synced: a name that was given may be lost when its power fails soon after")
	}
	if !f.tools.has("dd") {
		caveats = append(caveats, "the host may read back from its memory instead of its storage")
	}
	return caveats
}
