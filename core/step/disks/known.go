package disks

import (
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"path"
	"slices"
	"strings"

	"bagaglio/core/disk"
	"bagaglio/core/fingerprint"
	"bagaglio/core/inspect"
	"bagaglio/core/plan"
	"bagaglio/core/receipt"
	"bagaglio/core/step"
	"bagaglio/core/storage"
	"bagaglio/core/transfer"
)

// mostDifferences bounds how many ranges are told.
const mostDifferences = 20

// besideTag is the tag beside a disk in a folder, nil where there is none. One that is damaged, or of a disk of another size, has no
// leaves.
func besideTag(folder storage.Folder, name string, size int64) (*fingerprint.Tag, error) {
	tag, err := inspect.ReadTag(folder, fingerprint.TagName(name), size)
	if errors.Is(err, fs.ErrNotExist) || errors.Is(err, fingerprint.ErrTag) { // the plan told of a damaged one
		return nil, nil
	}
	return tag, err
}

// known compares what was read of the source with what was known of it: with the tag that the request names, or the one beside it. Where it
// differs, the job stops, unless the files were written to since or the request takes the source as it is.
func (w *work) known(ctx context.Context, leaves *fingerprint.Leaves) error {
	name := w.disk.Before.Place.Path
	tag, err := w.tagToProve()
	if err != nil {
		return err
	}
	asked := tag != nil
	if !w.disk.Request.TakesAll() { // what is known is of the whole disk
		return nil
	}
	if w.disk.Request.Source.Snapshot != "" && !asked {
		return nil
	}
	if w.disk.KnownSums {
		return w.knownSums(ctx, name)
	}
	if tag == nil {
		if tag, err = besideTag(w.Ends.Source, name, w.disk.Before.VirtualSize); err != nil || tag == nil {
			return err
		}
		w.proof.Tag = fingerprint.TagName(name)
	}
	_, err = w.agrees(ctx, name, tag, leaves, asked)
	return err
}

// knownSums compares the pieces of the source with the checksums beside them.
func (w *work) knownSums(ctx context.Context, first string) error {
	sums, err := inspect.Sums(w.Ends.Source, first)
	if err != nil {
		return err
	}
	var meter transfer.Meter
	var differ []string
	err = w.report.Run(plan.StepSums, &meter, nil, func() error {
		for _, name := range slices.Sorted(maps.Keys(sums)) {
			got, err := storage.SHA256(ctx, w.Ends.Source, name, func(n int64) { meter.Read.Add(n) })
			if err != nil && !w.disk.Request.AsItIs { // of one that is missing
				return fmt.Errorf("taking the SHA-256 of %s: %w", name, err)
			}
			if err == nil && hex.EncodeToString(got[:]) != sums[name] {
				differ = append(differ, path.Base(name))
			}
		}
		return nil
	})
	beside := path.Base(inspect.SumsName(first))
	switch {
	case err != nil:
		return err
	case len(differ) == 0:
		w.remark(fmt.Sprintf("each piece of the source has the SHA-256 that %s says", beside))
		return nil
	case w.disk.Request.AsItIs:
		w.doubt(fmt.Sprintf("%s: not what %s says, and taken as it is", strings.Join(differ, ", "), beside))
		return nil
	}
	return fmt.Errorf(
		"%w: %s: not what %s says. Fetch it again, or take it as it is now (--as-it-is)",
		step.ErrNotProven,
		strings.Join(differ, ", "),
		beside,
	)
}

// agrees compares what was read of a disk of the source with its tag.
func (w *work) agrees(
	ctx context.Context,
	name string,
	tag *fingerprint.Tag,
	leaves *fingerprint.Leaves,
	asked bool,
) (same bool, err error) {
	fits := tagFits(w.Ends.Source, tag, name)
	e := receipt.Earlier{Tag: fingerprint.TagName(name), Fingerprint: tag.Fingerprint, Made: tag.Made, Older: !fits}
	if name == w.disk.Before.Place.Path {
		w.proof.Earlier, w.earlier = &e, tag
	}
	for _, d := range tag.Doubts {
		w.doubt("the tag of the source says: " + d)
	}
	if tag.Leaves == nil {
		w.remark(fmt.Sprintf("%s has another size than its tag says, which was made at %s: they were not compared", name, plan.Clock(tag.Made)))
		return false, nil
	}
	e.Differences = fingerprint.Difference(tag.Leaves, leaves, mostDifferences)
	which := fmt.Sprintf("%s of %s", e.Tag, plan.Clock(tag.Made))
	switch {
	case len(e.Differences) == 0:
		w.remark(fmt.Sprintf("%s has the content that its tag says (%s)", name, which))
		return true, nil
	case w.disk.Request.AsItIs:
		w.doubt(fmt.Sprintf("%s is not what its tag says (%s), in %s, and was taken as it is", name, which, ranges(e.Differences)))
		return false, nil
	case !fits && !asked:
		w.remark(fmt.Sprintf("%s was written to after its tag was made (%s): it differs in %s", name, which, ranges(e.Differences)))
		return false, nil
	}
	w.proof.Differences = e.Differences
	w.proof.Damage = inspect.Hits(ctx, w.real, e.Differences, false)
	why := "although nothing has written to its files since: its storage may be failing"
	if !fits {
		why = "and its files were changed since"
	}
	where := ""
	if files := w.filesAt(ctx, name, e.Differences); len(files) > 0 {
		where = "; what differs lies in " + strings.Join(files, ", ")
	}
	return false, fmt.Errorf(
		"%w: %s is not what its tag says (%s), in %s, %s%s. Fetch it again, or take it as it is now (--as-it-is)",
		step.ErrNotProven,
		name,
		which,
		ranges(e.Differences),
		why,
		where,
	)
}

// ranges tells how many there are, and the first of them.
func ranges(r []fingerprint.Range) string {
	count := fmt.Sprintf("%d range(s)", len(r))
	if len(r) == mostDifferences {
		count = fmt.Sprintf("%d ranges or more", len(r))
	}
	return fmt.Sprintf("%s, the first %s at offset %d", count, plan.Bytes(r[0].Length), r[0].Offset)
}

// filesAt are the names of the files of a disk that ranges lie in, as far as its format tells.
func (w *work) filesAt(ctx context.Context, name string, ranges []fingerprint.Range) (names []string) {
	src, err := disk.Open(ctx, w.Ends.Source, name, "")
	if name == w.disk.Before.Place.Path {
		src, err = w.openSource(ctx, w.Ends.Source)
	}
	if err != nil {
		return nil
	}
	defer src.Close()
	l, ok := src.(disk.Locator)
	if !ok {
		return nil
	}
	for _, d := range ranges {
		for off := d.Offset; off < d.Offset+d.Length; {
			at, err := l.Locate(off)
			if err != nil || at.Len <= 0 {
				break
			}
			if at.File != "" && !slices.Contains(names, path.Base(at.File)) {
				names = append(names, path.Base(at.File))
			}
			off += at.Len
		}
	}
	return names
}

// openSource opens the disk that is worked on, in the format that the plan found.
func (w *work) openSource(ctx context.Context, folder storage.Folder) (disk.Reader, error) {
	return inspect.Open(ctx, w.disk.Request.Source.Origin(folder), w.disk.Before.Format, w.disk.Request.Selection())
}

// followTags has the tags of disks that came along speak of the copied files, where what was copied is what they say.
func (w *work) followTags(ctx context.Context, folder storage.Folder) error {
	for _, c := range w.disk.Copied {
		i := slices.IndexFunc(w.disk.Copied, func(d plan.Copied) bool { return fingerprint.TagName(d.From) == c.From })
		if i < 0 || c.Stays {
			continue
		}
		same, err := w.knownCopy(ctx, folder, w.disk.Copied[i])
		if err == nil && same {
			err = refile(w.Ends.Source, c.From, folder, c.To, c.To+".new", nil)
		}
		if err != nil {
			return fmt.Errorf("following the tag %s: %w", c.From, err)
		}
	}
	return nil
}

// knownCopy reads the copy of a disk that came along, and tells whether it is what the tag of the disk says.
func (w *work) knownCopy(ctx context.Context, folder storage.Folder, c plan.Copied) (same bool, err error) {
	src, err := disk.Open(ctx, storage.Fresh(folder), c.To, "")
	if errors.Is(err, disk.ErrFormat) {
		return false, nil // a base that is known by what stands on it only
	}
	if err != nil {
		return false, destination(fmt.Errorf("opening the copy: %w", err))
	}
	defer src.Close()
	tag, err := besideTag(w.Ends.Source, c.From, src.Size())
	if err != nil || tag == nil {
		return false, err
	}
	leaves, err := w.leavesOf(ctx, src)
	if err != nil {
		return false, err
	}
	return w.agrees(ctx, c.From, tag, leaves, false)
}

// leavesOf reads a whole disk.
func (w *work) leavesOf(ctx context.Context, src disk.Reader) (*fingerprint.Leaves, error) {
	var meter transfer.Meter
	result, err := transfer.Transfer{Source: src, Meter: &meter, Wait: w.Wait, PastDamage: w.pastDamage()}.Run(ctx)
	w.proof.BytesRead += meter.Read.Load()
	w.proof.Retries += meter.Retries.Load()
	return result.Leaves, err
}
