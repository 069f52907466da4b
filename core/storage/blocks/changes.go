package blocks

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"bagaglio/core/device"
	"bagaglio/core/fingerprint"
	"bagaglio/core/storage"
)

// teller has the kernel tell of each request to a disk, as it is issued and when it is done (the kernel's Documentation/trace/events.rst). It is a process of
// its own on the computer that has the disk, with an instance of the tracing of its own, and ends with its input; what it is sent comes back between the
// requests. Instances of one that was killed are cleared away.
const teller = `T=/sys/kernel/tracing
[ -d $T/instances ] || mount -t tracefs none $T || exit 1
for old in $T/instances/bagaglio-*; do
	[ ! -d "$old" ] || kill -0 "${old##*-}" 2>/dev/null || { echo 0 > "$old/events/enable"; rmdir "$old"; }
done
own=$T/instances/bagaglio-$$
mkdir "$own" || exit 1
trap "" HUP INT TERM
for event in issue complete; do
	echo "dev == $1" > "$own/events/block/block_rq_$event/filter" && echo 1 > "$own/events/block/block_rq_$event/enable" && continue
	echo 0 > "$own/events/enable"; rmdir "$own"; exit 1
done
cat "$own/trace_pipe" & reader=$!
while read -r word; do echo "$word" > "$own/trace_marker"; done
kill -KILL $reader; wait $reader 2>/dev/null
echo 0 > "$own/events/enable"; rmdir "$own"`

const asRoot = `PATH=$PATH:/usr/sbin:/sbin; run=; [ "$(id -u)" = 0 ] || run="sudo -n"; exec $run sh -c "$1" sh "$2"`

// What the kernel prints: the event, then the device, what kind of request it is, and its first sector and how many it has. A name of a program, which comes
// before, is too short to look like one.
var (
	eventForm   = regexp.MustCompile(`: (block_rq_issue|block_rq_complete|tracing_mark_write): (.*)$`)
	requestForm = regexp.MustCompile(`^\d+,\d+ (\S+) .*?\) (\d+) \+ (\d+) `)
)

// sector is what the kernel counts in, in bytes, whatever those of the disk are.
const sector = 512

// hearIn is for how long the kernel is waited for.
const hearIn = 10 * time.Second

// ErrUntold is the error for a computer whose kernel does not tell what is written to a disk.
var ErrUntold = errors.New("its system does not tell what is written to the disk: freeze it all the while, or read it as it is")

// Changes tells what is written to a disk since it was asked last.
type Changes struct {
	size   int64 // of the disk, in bytes
	script Script
	ended  chan struct{} // when it tells no more
	heard  chan struct{} // gets something when anything was told of the disk
	marks  chan string

	mu     sync.Mutex
	leaves map[int64]bool // numbers of those that were written to
	lost   bool           // the kernel could not tell all
	asked  int
}

// Changes begins to hear what is written to a disk. It fails with ErrUntold where that is not told.
func (f *Folder) Changes(ctx context.Context, name string) (*Changes, error) {
	d, err := f.find("hear", name)
	if err != nil {
		return nil, err
	}
	runs, ok := f.computer.(scripts)
	number, numberErr := kernelNumber(d)
	if !ok || numberErr != nil {
		return nil, fmt.Errorf("%s: %w", d.Path, ErrUntold)
	}
	s, err := runs.Start(asRoot, teller, number)
	if err != nil {
		return nil, err
	}
	c := newChanges(d.Size)
	c.script = s
	go c.hear()
	if err := errors.Join(c.mark(ctx), c.isHeard(ctx, f, d)); err != nil {
		return nil, errors.Join(fmt.Errorf("%s: %w (%w)", d.Path, ErrUntold, err), c.Close())
	}
	return c, nil
}

func newChanges(size int64) *Changes {
	return &Changes{
		size:   size,
		ended:  make(chan struct{}),
		heard:  make(chan struct{}, 1),
		marks:  make(chan string, 1),
		leaves: map[int64]bool{},
	}
}

// kernelNumber is the number of a device as the kernel writes it (include/linux/kdev_t.h).
func kernelNumber(d device.Device) (string, error) {
	var major, minor uint64
	if _, err := fmt.Sscanf(d.Number, "%d:%d", &major, &minor); err != nil {
		return "", fmt.Errorf("the number %q of %s: %w", d.Number, d.Path, err)
	}
	return strconv.FormatUint(major<<20|minor, 10), nil
}

// isHeard reads from the disk until the kernel tells of it: some disks have their requests told under another number.
func (c *Changes) isHeard(ctx context.Context, f *Folder, d device.Device) error {
	deadline := time.After(hearIn)
	for {
		file, err := f.Heedless().Open(d.Name)
		if err != nil {
			return err
		}
		_, err = file.ReadAt(make([]byte, sector), 0)
		if err := errors.Join(err, file.Close()); err != nil {
			return err
		}
		select {
		case <-c.heard:
			return nil
		case <-time.After(100 * time.Millisecond):
		case <-c.ended:
			return storage.ErrLost
		case <-deadline:
			return errors.New("nothing was heard of a read")
		case <-ctx.Done():
			return context.Cause(ctx)
		}
	}
}

// hear takes in what is told.
func (c *Changes) hear() {
	defer close(c.ended)
	lines := bufio.NewScanner(c.script.Out)
	for lines.Scan() {
		c.take(lines.Text())
	}
}

func (c *Changes) take(line string) {
	found := eventForm.FindStringSubmatch(line)
	if found == nil {
		if strings.Contains(line, "LOST") {
			c.mu.Lock()
			c.lost = true
			c.mu.Unlock()
		}
		return
	}
	if found[1] == "tracing_mark_write" {
		c.marks <- strings.TrimSpace(found[2])
		return
	}
	select {
	case c.heard <- struct{}{}:
	default:
	}
	r := requestForm.FindStringSubmatch(found[2])
	if r == nil { // another kernel may say it otherwise: then it is not known what it was
		c.mu.Lock()
		c.lost = true
		c.mu.Unlock()
		return
	}
	if strings.Contains(r[1], "R") || r[3] == "0" { // a read, whatever its flags, or nothing but a flush
		return
	}
	from, errFrom := strconv.ParseInt(r[2], 10, 64)
	n, errN := strconv.ParseInt(r[3], 10, 64)
	c.mu.Lock()
	defer c.mu.Unlock()
	sectors := c.size / sector
	if errors.Join(errFrom, errN) != nil || from > sectors || n > sectors-from { // what is said makes no sense
		c.lost = true
		return
	}
	for leaf := from * sector / fingerprint.LeafSize; leaf*fingerprint.LeafSize < (from+n)*sector; leaf++ {
		c.leaves[leaf] = true
	}
}

// mark waits until all is told that happened before.
func (c *Changes) mark(ctx context.Context) error {
	c.asked++
	word := fmt.Sprintf("bagaglio %d", c.asked)
	if _, err := io.WriteString(c.script.In, word+"\n"); err != nil {
		return fmt.Errorf("%w: who tells what is written has ended (%w)", storage.ErrLost, err)
	}
	deadline := time.After(hearIn)
	for {
		select {
		case said := <-c.marks:
			if said == word {
				return nil
			}
		case <-c.ended:
			return fmt.Errorf("%w: who tells what is written has ended", storage.ErrLost)
		case <-deadline:
			return fmt.Errorf("%w: who tells what is written does not answer", storage.ErrLost)
		case <-ctx.Done():
			return context.Cause(ctx)
		}
	}
}

// Take returns where something was written to since it was called last, in whole leaves that are ascending, and begins anew. A write that is on its way at that
// moment is in what is returned, and in what is returned next. It is not known where the kernel could not tell all.
func (c *Changes) Take(ctx context.Context) (written []fingerprint.Range, known bool, err error) {
	if err := c.mark(ctx); err != nil {
		return nil, false, err
	}
	c.mu.Lock()
	leaves, lost := c.leaves, c.lost
	c.leaves, c.lost = map[int64]bool{}, false
	c.mu.Unlock()
	numbers := make([]int64, 0, len(leaves))
	for leaf := range leaves {
		numbers = append(numbers, leaf)
	}
	slices.Sort(numbers)
	for _, leaf := range numbers {
		last := len(written) - 1
		if off := leaf * fingerprint.LeafSize; last >= 0 && written[last].Offset+written[last].Length == off {
			written[last].Length += fingerprint.LeafSize
		} else {
			written = append(written, fingerprint.Range{Offset: off, Length: fingerprint.LeafSize})
		}
	}
	return written, !lost, nil
}

// Close ends it.
func (c *Changes) Close() error {
	_ = c.script.In.Close() // that is what it waits for
	go func() {
		for range c.marks { // nobody asks any more
		}
	}()
	<-c.ended
	close(c.marks)
	return c.script.Wait()
}
