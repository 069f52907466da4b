package disks

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"strings"
	"time"

	"bagaglio/core/fingerprint"
	"bagaglio/core/inspect"
	"bagaglio/core/plan"
	"bagaglio/core/receipt"
	"bagaglio/core/step"
	"bagaglio/core/storage"
	"bagaglio/core/transfer"

	"github.com/google/uuid"
)

// tagName is that of the tag beside the new image.
func (w *work) tagName() string { return fingerprint.TagName(w.inside(w.disk.After.Place.Path)) }

// makeTag puts the tag of the new image beside it in the staging folder, to get its name first.
func (w *work) makeTag(ctx context.Context, copied transfer.Result) error {
	if err := w.makeSums(ctx, storage.Sub(w.Ends.Destination, w.staging())); err != nil {
		return err
	}
	leaves, was := copied.Leaves, w.disk.Before.VirtualSize
	if w.disk.Fit != nil {
		was = w.disk.Fit.Size
	}
	if w.disk.After.VirtualSize != was {
		leaves = leaves.Extended(w.disk.After.VirtualSize, copied.Tail)
	}
	if err := w.makeMap(ctx, leaves); err != nil {
		return err
	}
	if w.disk.Request.NoTag || !w.carried().Guest() && w.guest == nil {
		return nil
	}
	r := &w.proof
	tag := fingerprint.Tag{
		Format:  w.disk.After.Format,
		Layout:  w.disk.After.Layout,
		Proven:  r.Outcome == receipt.Proven,
		Made:    time.Now(),
		Receipt: r.ID,
		Leaves:  leaves,
		Origin:  fingerprint.Origin{Disk: r.Source.Place.String(), Format: r.Source.Format, Fingerprint: r.Source.Fingerprint},
	}
	if c := w.disk.Called[w.disk.Request.Source.Path]; c != (plan.Called{}) {
		tag.Called, tag.Note = c.Name, c.Note
	} else if w.earlier != nil {
		tag.Called, tag.Note = w.earlier.Called, w.earlier.Note
	}
	tag.Doubts = r.Doubts
	if e := r.Earlier; e != nil {
		differs := ""
		if len(e.Differences) > 0 {
			differs = ranges(e.Differences)
		}
		tag.Follow(w.earlier, r.Source.Place.String(), differs)
	}
	folder := storage.Sub(w.Ends.Destination, w.staging())
	for _, name := range w.carried().Own(w.state.Files) {
		info, err := folder.Stat(name)
		if err != nil {
			return fmt.Errorf("noting the files of the image in its tag: %w", err)
		}
		tag.Files = append(tag.Files, fingerprint.File{Name: w.besideTag(name), Size: info.Size, Modified: info.Modified})
	}
	if err := w.writeTag(folder, w.tagName(), tag); err != nil {
		return fmt.Errorf("writing the tag: %w", err)
	}
	w.state.Files = append([]string{w.tagName()}, w.state.Files...)
	return w.syncFolders(w.staging())
}

// besideTag is the name of a file as its tag has it.
func (w *work) besideTag(name string) string {
	return within(path.Dir(w.tagName()), name)
}

func (w *work) writeTag(folder storage.Folder, name string, tag fingerprint.Tag) error {
	if err := folder.Remove(name); err != nil && !errors.Is(err, fs.ErrNotExist) { // of an earlier time
		return err
	}
	file, err := folder.Create(name)
	if err != nil {
		return err
	}
	out := bufio.NewWriterSize(&appender{file: file}, 1<<16)
	_, err = tag.WriteTo(out)
	if err = errors.Join(err, out.Flush()); err == nil {
		err = file.Sync()
	}
	return errors.Join(err, file.Close())
}

// appender writes a file from front to back.
type appender struct {
	file storage.File
	at   int64
}

func (a *appender) Write(p []byte) (int, error) {
	n, err := a.file.WriteAt(p, a.at)
	a.at += int64(n)
	return n, err
}

// Rename has the tag beside a disk say what people call it, and what they note on it. It fails with fs.ErrNotExist where there is none.
func Rename(folder storage.Folder, name, called, note string) error {
	tag := fingerprint.TagName(name)
	staged := path.Join(StagingFolder, uuid.NewString(), path.Base(tag))
	err := remake(folder, tag, folder, tag, staged, func(w io.Writer, r io.Reader) error { return fingerprint.Rename(w, r, called, note) })
	_ = storage.RemoveAll(folder, path.Dir(staged)) // nothing is in it any more
	tidy(folder)
	return errors.Join(err, folder.Sync(path.Dir(tag)))
}

// refile puts a tag beside a disk that was copied or renamed, in the place of the one that may lie there: it speaks of the files as they
// are there, whose new names are given by their old ones. Its leaves stay as they are.
func refile(from storage.Folder, name string, to storage.Folder, at, staged string, names map[string]string) error {
	return remake(from, name, to, at, staged, func(w io.Writer, r io.Reader) error {
		var statErr error
		err := fingerprint.Refile(w, r, func(files []fingerprint.File) []fingerprint.File {
			for i, f := range files {
				if now, ok := names[f.Name]; ok {
					files[i].Name = now
				}
				info, err := to.Stat(path.Join(path.Dir(at), files[i].Name))
				statErr = errors.Join(statErr, err)
				files[i].Size, files[i].Modified = info.Size, info.Modified
			}
			return files
		})
		return errors.Join(err, statErr)
	})
}

// remake makes a small file of another one, under the name staged first, in the place of the one that may lie there.
func remake(from storage.Folder, name string, to storage.Folder, at, staged string, fill func(io.Writer, io.Reader) error) error {
	old, err := from.Open(name)
	if err != nil {
		return err
	}
	defer old.Close()
	size, err := old.Size()
	if err != nil {
		return err
	}
	if err := to.Remove(staged); err != nil && !errors.Is(err, fs.ErrNotExist) { // of an earlier time
		return err
	}
	file, err := to.Create(staged)
	if err != nil {
		return err
	}
	err = fill(&appender{file: file}, io.NewSectionReader(old, 0, size))
	if err = errors.Join(err, file.Close()); err == nil {
		err = asBefore(from, name, to, staged)
	}
	if err = errors.Join(err, syncAgain(to, staged)); err != nil {
		return err
	}
	return replace(to, staged, at)
}

// asBefore gives a file the mode of the one that it is made of.
func asBefore(from storage.Folder, name string, to storage.Folder, staged string) error {
	o, ok := storage.As[storage.Owner](to)
	like, err := from.Stat(name)
	if err != nil || !ok || like.Mode == "" {
		return err
	}
	if err := o.Own(staged, "", like.Mode); step.CanWait(err) {
		return err
	}
	return nil // the storage has no modes
}

// replace gives a staged file its name, which another one may have.
func replace(folder storage.Folder, staged, name string) error {
	err := folder.Rename(staged, name)
	if !errors.Is(err, fs.ErrExist) {
		return err
	}
	if err = folder.Exchange(staged, name); err == nil {
		return folder.Remove(staged)
	}
	if errors.Is(err, errors.ErrUnsupported) {
		return errors.Join(folder.Remove(name), folder.Rename(staged, name))
	}
	return err
}

// tagToProve returns the tag to prove against, or nil when none is asked for or, of the one beside the disk, there is none.
func (w *work) tagToProve() (*fingerprint.Tag, error) {
	request := w.disk.Request
	if request.Tag == "" {
		return nil, nil
	}
	name := request.Tag
	if name == plan.TagBeside {
		name = fingerprint.TagName(w.disk.Before.Place.Path)
	}
	tag, err := inspect.ReadTag(w.Ends.Source, name, w.disk.Before.VirtualSize)
	if request.Tag == plan.TagBeside && errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, fmt.Errorf("reading the tag %s: %w", name, err)
	}
	w.proof.Tag = name
	if got := w.disk.Before.VirtualSize; got != tag.VirtualSize {
		return nil, fmt.Errorf(
			"%w: the virtual size is %s, and the tag says %s%s",
			step.ErrNotProven,
			plan.Bytes(got),
			plan.Bytes(tag.VirtualSize),
			w.missing(tag),
		)
	}
	return tag, nil
}

// missing names the files that a tag names and that are not there.
func (w *work) missing(tag *fingerprint.Tag) string {
	var names []string
	for _, f := range tag.Files {
		if _, err := w.Ends.Source.Stat(path.Join(path.Dir(w.proof.Tag), f.Name)); errors.Is(err, fs.ErrNotExist) {
			names = append(names, f.Name)
		}
	}
	if len(names) == 0 {
		return ""
	}
	return fmt.Sprintf("; missing: %s", strings.Join(names, ", "))
}

// proveQuickly compares what is known without reading the content.
func (w *work) proveQuickly(tag *fingerprint.Tag) error {
	r := &w.proof
	r.Outcome, r.Compared = receipt.Unproven, "structure and file facts only (a quick proof): the tables of the format agree with each other; the content was not read"
	if tag == nil {
		r.Reason = "a quick proof says nothing about the content"
		return nil
	}
	r.Compared = "structure and file facts only (a quick proof), with the tag: tables, virtual size, names and lengths of the files; the content was not read"
	dir := path.Dir(r.Tag)
	for _, f := range tag.Files {
		info, err := w.Ends.Source.Stat(path.Join(dir, f.Name))
		if err != nil {
			return fmt.Errorf("%w: looking for a file that the tag names: %w", step.ErrNotProven, err)
		}
		if info.Size != f.Size {
			return fmt.Errorf("%w: %s has %s, and the tag says %s", step.ErrNotProven, f.Name, plan.Bytes(info.Size), plan.Bytes(f.Size))
		}
		if !info.Modified.Equal(f.Modified) {
			w.remark(modified(f.Name, info))
		}
	}
	r.Reason = "a quick proof says nothing about the content: everything that it looks at is as the tag says"
	return nil
}

func modified(name string, info storage.Info) string {
	return fmt.Sprintf("%s was modified at %s, after its tag was made", name, info.Modified.Local().Format(time.DateTime))
}

// remarkModified notes which files of a disk are younger than its tag: a machine that ran changes its disks.
func (w *work) remarkModified(tag *fingerprint.Tag) {
	for _, f := range tag.Files {
		info, err := w.Ends.Source.Stat(path.Join(path.Dir(w.proof.Tag), f.Name))
		if err == nil && !info.Modified.Equal(f.Modified) {
			w.remark(modified(f.Name, info) + ": a machine that has run since changes its disk")
		}
	}
}
