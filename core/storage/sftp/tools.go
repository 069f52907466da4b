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
	"time"

	"bagaglio/core/storage"
)

// tools are the standard programs (POSIX and GNU coreutils) that the host lets us run. Hosts that offer file transfer only have none.
type tools struct {
	names      []string
	filesystem string // that the folder lies on, as stat(1) names it
}

func (t tools) has(name string) bool { return slices.Contains(t.names, name) }

// wanted are the programs that are of use: to take a checksum, to sync a folder, to let go of a file in memory, to name the filesystem.
var wanted = []string{"sha256sum", "sync", "dd", "stat"}

// findTools asks for them. A host that lets nobody run anything answers something else, or nothing.
func (f *Folder) findTools(ctx context.Context, c *client) tools {
	var t tools
	const mark = "tools:"
	out, err := c.run(ctx, toolPatience, "for t in "+strings.Join(wanted, " ")+"; do command -v $t >/dev/null 2>&1 && echo "+mark+"$t; done; true")
	if err != nil {
		return t
	}
	for line := range strings.Lines(out) {
		if name, ok := strings.CutPrefix(strings.TrimSpace(line), mark); ok && slices.Contains(wanted, name) {
			t.names = append(t.names, name)
		}
	}
	if t.has("stat") {
		if out, err := c.run(ctx, toolPatience, "stat -f -c %T -- "+quote(f.dir)); err == nil {
			t.filesystem = storage.Printable(out)
		}
	}
	return t
}

// toolPatience is for how long a small program may run.
const toolPatience = 20 * time.Second

// quote makes one word of a shell command of a text (POSIX, Shell Command Language, 2.2.2).
func quote(s string) string { return "'" + strings.ReplaceAll(s, "'", `'\''`) + "'" }

// run runs a command on the host and returns what it prints, at most 64 KiB.
func (c *client) run(ctx context.Context, limit time.Duration, command string) (string, error) {
	session, err := c.ssh.NewSession()
	if err != nil {
		return "", plain(err)
	}
	defer session.Close()
	ctx, cancel := context.WithTimeout(ctx, limit)
	defer cancel()
	stop := context.AfterFunc(ctx, func() { _ = session.Close() })
	defer stop()
	out := &bounded{left: 64 << 10}
	session.Stdout = out
	if err := session.Run(command); err != nil {
		if ctx.Err() != nil {
			err = ctx.Err()
		}
		return "", plain(err)
	}
	return out.String(), nil
}

// bounded keeps the first bytes of what is written.
type bounded struct {
	bytes.Buffer
	left int
}

func (b *bounded) Write(p []byte) (int, error) {
	keep := p[:min(len(p), b.left)]
	b.left -= len(keep)
	_, _ = b.Buffer.Write(keep) // never fails
	return len(p), nil
}

// SHA256 has the host take the checksum of a file, where it lets us run the tool.
func (f *Folder) SHA256(ctx context.Context, name string) (sum [sha256.Size]byte, err error) {
	if !f.tools.has("sha256sum") {
		return sum, errors.ErrUnsupported
	}
	var full string
	var c *client
	err = f.at(name, func(on *client, at string) error {
		c, full = on, at
		info, err := c.sftp.Lstat(at)
		if err == nil && !info.Mode().IsRegular() {
			err = fmt.Errorf("%s is no file", name)
		}
		if err == nil {
			c.letGo(f.tools, at)
		}
		return err
	})
	if err != nil {
		return sum, err
	}
	out, err := c.run(ctx, sumPatience, "sha256sum < "+quote(full))
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

// sumPatience is for how long a checksum may take: that of 16 TiB at 100 MB/s.
const sumPatience = 48 * time.Hour

// letGo has the host forget what it has of a file in its memory, so that what is read next comes from its storage. Where that cannot be
// done, the host may answer from its memory.
func (c *client) letGo(t tools, full string) {
	if t.has("dd") {
		_, _ = c.run(context.Background(), toolPatience, "dd if="+quote(full)+" iflag=nocache count=0 2>/dev/null") // only advice
	}
}

// syncFolder has the host write the names in a folder to its storage.
func (c *client) syncFolder(t tools, full string) error {
	if !t.has("sync") {
		return nil
	}
	if _, err := c.run(context.Background(), syncPatience, "sync "+quote(full)); err != nil {
		return fmt.Errorf("syncing the folder %s on the host: %w", path.Base(full), err)
	}
	return nil
}

// canSync tells whether the host can sync files.
func (c *client) canSync() bool {
	_, ok := c.sftp.HasExtension("fsync@openssh.com")
	return ok
}
