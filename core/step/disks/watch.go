package disks

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"regexp"
	"slices"
	"strings"
	"time"

	"bagaglio/core/disk"
	"bagaglio/core/fingerprint"
	"bagaglio/core/step"
	"bagaglio/core/storage"
	"bagaglio/core/transfer"
)

// watched are files that nobody should write to as long as they are read.
type watched struct {
	folder storage.Folder
	files  []string
}

func files(r disk.Reader) []string {
	d := r.Describe()
	return append(append([]string{}, d.Files...), d.Chain...)
}

// look returns what changes when somebody writes to the files, a line for each. It fails when somebody is about to.
func (w watched) look() (string, error) {
	var state strings.Builder
	for _, name := range w.files {
		info, err := w.folder.Stat(name)
		if err != nil {
			return "", fmt.Errorf("looking at %s again: %w", name, err)
		}
		if err := inUse(w.folder, name); err != nil {
			return "", err
		}
		version := ""
		if v, ok := storage.As[storage.Versioner](w.folder); ok {
			if version, err = v.Version(name); err != nil {
				return "", fmt.Errorf("looking at %s again: %w", name, err)
			}
		}
		written, err := writtenTo(w.folder, name)
		if err != nil {
			return "", err
		}
		fmt.Fprintf(
			&state,
			"%s %s %s %s %d %d %s%d\n",
			name,
			info.ID,
			version,
			written,
			info.Size,
			info.Modified.UnixNano(),
			changedAt,
			info.Changed.UnixNano(),
		)
	}
	return state.String(), nil
}

// device is the number of the device in the identity of a file, which each computer gives to storage that it shares with others.
var device = regexp.MustCompile(` \d+:(\d+) `)

// sameSeen tells whether two looks saw the same, also from two computers.
func sameSeen(a, b string) bool {
	return a == b || device.ReplaceAllString(a, " $1 ") == device.ReplaceAllString(b, " $1 ")
}

// changedAt begins what a line ends with: when anything of a file changed, also what is no content.
const changedAt = "changed="

// touched tells whether two looks differ only in when anything of a file changed: its owner or a name of it, or its content, by somebody
// who put the time of that back.
func touched(a, b string) bool { return a != b && untimed(a) == untimed(b) }

func untimed(state string) string {
	var out strings.Builder
	for line := range strings.Lines(state) {
		out.WriteString(line[:strings.LastIndex(line, changedAt)+len(changedAt)])
	}
	return out.String()
}

// inUse fails for a file that another program uses, where the storage can tell.
func inUse(folder storage.Folder, name string) error {
	u, ok := storage.As[storage.Usage](folder)
	if !ok {
		return nil
	}
	if info, err := folder.Stat(name); err != nil || info.IsDir { // what lies in it is looked at, and not who has it open
		return err
	}
	why, err := u.InUse(name)
	if err != nil || why == "" {
		return err
	}
	return fmt.Errorf("%s: %w: %s; shut down what uses it, then start again", name, step.ErrInUse, why)
}

// lookAtBase finds what the new image stands on, if it does.
func (w *work) lookAtBase(ctx context.Context) (string, error) {
	if w.disk.Request.Base == "" {
		return "", nil
	}
	base, err := openBase(ctx, w.Ends.Destination, w.disk.Request)
	if err != nil {
		return "", err
	}
	w.base = watched{w.Ends.Destination, files(base)}
	if err := base.Close(); err != nil {
		return "", err
	}
	return w.base.look()
}

// mostWatched bounds how many files are looked at all the while; of more, only at the beginning and at the end.
const mostWatched = 100

// watching looks at the source before each mark, so that hours are not spent on one that somebody writes to.
func (w *work) watching(keep func(transfer.Mark) error) func(transfer.Mark) error {
	if w.disk.Request.Recopy || w.tears() || w.keepsUp() || len(w.source.files) > mostWatched { // then the closing look decides
		return keep
	}
	return func(m transfer.Mark) error {
		now, err := w.source.look()
		if err != nil {
			return err
		}
		if now != w.state.Source && !touched(now, w.state.Source) { // what that was, the closing look finds out
			return errChanged
		}
		return keep(m)
	}
}

// errChanged is the error for a source that somebody wrote to.
var errChanged = errors.New(
	"the source changed while it was copied: shut down what writes to it, then start again, or let what differs be copied again (recopy)",
)

// closingLook fails when what was read is not what it was any more.
func (w *work) closingLook(ctx context.Context, src disk.Reader, copied transfer.Result) error {
	w.state.Parted = nil // as it is before it is looked at: what is written from now on shows
	for _, name := range w.source.files {
		p, err := part(w.source.folder, name)
		if err != nil {
			return err
		}
		w.state.Parted = append(w.state.Parted, p)
	}
	now, err := w.source.look()
	if err != nil {
		return err
	}
	same := now == w.state.Source && !w.guard.broken()
	if !same { // since content was compared, when all was read
		if same, err = w.unchanged(ctx, src, copied); err != nil {
			return err
		}
	}
	if !same && w.tears() {
		w.torn()
		same = true
	}
	if !same {
		if !w.disk.Request.Recopy {
			return errChanged
		}
		w.remark("the source was changed again after it had been copied: the copy has the content from before that")
	}
	base, err := w.base.look()
	if err != nil {
		return err
	}
	if base != w.state.Base {
		return errors.New("the base changed while the image was written, which holds only what differs from it: start again")
	}
	return nil
}

// unchanged tells whether the source is still what it was: by its files, and by its content, some of it, or all where somebody could have
// written.
func (w *work) unchanged(ctx context.Context, src disk.Reader, copied transfer.Result) (bool, error) {
	now, err := w.source.look()
	if err != nil {
		return false, err
	}
	if now != w.state.Source && !touched(now, w.state.Source) {
		return false, nil
	}
	suspect := now != w.state.Source || w.guard.broken()
	if !suspect {
		took := time.Now()
		same, err := w.sample(ctx, src, copied)
		if err != nil || !same || w.guard.whole {
			return same, err
		}
		if some := time.Since(took); some*time.Duration(copied.Leaves.Total()/samples+1) > time.Since(w.proof.Started)/10 {
			w.remarkOnce(
				fmt.Sprintf(
					"it could not be ruled out that somebody had the source open for writing: %d places of it were read again, and were the same",
					samples,
				),
			)
			return true, nil
		}
	}
	if suspect { // nobody may do so unseen while it is read again
		w.guard.renew(w.source)
		if now, err = w.source.look(); err != nil {
			return false, err
		}
	}
	same, err := w.readAgain(ctx, src, copied)
	if err != nil || !same || !suspect {
		return same, err
	}
	if after, err := w.source.look(); err != nil || after != now || w.guard.broken() {
		return false, err
	}
	w.state.Source = now
	w.remarkOnce(
		"the source was opened for writing, or something of its files changed, while it was read: all of it was read again, and is the same",
	)
	return true, nil
}

// readAgain reads all of the source again and compares it with what was copied.
func (w *work) readAgain(ctx context.Context, src disk.Reader, copied transfer.Result) (same bool, err error) {
	const size = fingerprint.LeafSize
	empty := disk.Extent{} // the run that was found last to hold nothing
	for number := range copied.Leaves.Total() {
		off := number * size
		if overlaps(copied.Damaged, number) {
			continue
		}
		if off >= empty.End() {
			if empty, err = src.Extent(off); err != nil {
				return false, err
			}
			if empty.Kind == disk.Data {
				empty.Len = 0
			}
		}
		if off+size <= empty.End() && copied.Leaves.At(number) == fingerprint.ZeroLeaf(size) { // nothing is there, and nothing was
			continue
		}
		if w.Wait != nil {
			if err := w.Wait(ctx, fingerprint.LeafSize); err != nil {
				return false, err
			}
		}
		if same, err := w.leafIs(ctx, src, copied, number); err != nil || !same {
			return same, err
		}
	}
	return true, nil
}

// guard tells whether somebody opened the source for writing while it was read.
type guard struct {
	leases []storage.Lease
	whole  bool // all files are leased
}

// guardOf takes leases on files, as far as the storage has them.
func guardOf(w watched) *guard {
	g := &guard{}
	g.renew(w)
	return g
}

// renew takes them anew.
func (g *guard) renew(w watched) {
	g.close()
	l, ok := storage.As[storage.Leaser](w.folder)
	if g.whole = ok && len(w.files) <= mostWatched; !g.whole {
		return
	}
	for _, name := range w.files {
		lease, err := l.Lease(name)
		if err != nil {
			g.whole = false
			continue
		}
		g.leases = append(g.leases, lease)
	}
}

func (g *guard) broken() bool {
	return g != nil && slices.ContainsFunc(g.leases, func(l storage.Lease) bool { return l.Broken() })
}

func (g *guard) close() {
	for _, l := range g.leases {
		_ = l.Close() // nothing was written through it
	}
	g.leases = nil
}

// samples is in how many places the closing look compares content.
const samples = 16

// sample reads some of the source again and compares it with what was copied.
func (w *work) sample(ctx context.Context, src disk.Reader, copied transfer.Result) (same bool, err error) {
	total := copied.Leaves.Total()
	last := int64(-1)
	for i := range int64(samples) {
		number := (total - 1) / (samples - 1) * i
		if i == samples-1 {
			number = total - 1
		}
		if number == last || overlaps(copied.Damaged, number) {
			continue
		}
		last = number
		if same, err := w.leafIs(ctx, src, copied, number); err != nil || !same {
			return same, err
		}
	}
	return true, nil
}

// leafIs reads a leaf of the source again and compares it with what was copied.
func (w *work) leafIs(ctx context.Context, src disk.Reader, copied transfer.Result, number int64) (same bool, err error) {
	if err := ctx.Err(); err != nil {
		return false, err
	}
	p := make([]byte, fingerprint.LeafSize)
	var meter transfer.Meter
	defer func() { w.proof.Retries += meter.Retries.Load() }()
	var n int
	err = transfer.Retry(ctx, &meter, func() (err error) {
		if n, err = src.ReadAt(p, number*fingerprint.LeafSize); errors.Is(err, io.EOF) {
			err = nil
		}
		return err
	})
	if err != nil {
		return false, fmt.Errorf("reading some of the source again at offset %d: %w", number*fingerprint.LeafSize, err)
	}
	got, want := fingerprint.Leaf(p[:n]), copied.Leaves.At(number)
	return bytes.Equal(got[:], want[:]), nil
}

// overlaps tells whether a leaf lies in one of the ranges.
func overlaps(ranges []fingerprint.Range, leaf int64) bool {
	for _, r := range ranges {
		if r.Offset < (leaf+1)*fingerprint.LeafSize && r.Offset+r.Length > leaf*fingerprint.LeafSize {
			return true
		}
	}
	return false
}
