package disks

import (
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"

	"bagaglio/core/disk"
	"bagaglio/core/fingerprint"
	"bagaglio/core/inspect"
	"bagaglio/core/plan"
	"bagaglio/core/storage"
)

// outsideOfOurs fails for a request that names what a pool holds for itself.
func outsideOfOurs(r plan.Request) error {
	names := []string{r.Base}
	if !strings.HasPrefix(r.Source.Path, ArrivingFolder+"/") {
		names = append(names, r.Source.Path)
	}
	if r.Destination != nil {
		names = append(names, r.Destination.Path)
	}
	for _, name := range names {
		if slices.Contains(strings.Split(name, "/"), OwnFolder) {
			return fmt.Errorf("%w: %s lies in what a pool holds for itself: name a disk outside of %s", plan.ErrRequest, name, OwnFolder)
		}
	}
	return nil
}

// lookBack gathers what was known of a source before: what its tag says, which of its files are not what they were, and whether what lies
// in it fits to it.
func lookBack(folder storage.Folder, r plan.Request, src disk.Reader, f *plan.SourceFacts) error {
	name, err := storage.Clean(r.Source.Path)
	if err != nil {
		return err
	}
	f.Opens = disk.FirstPiece(folder, name)
	if strings.HasPrefix(name, ArrivingFolder+"/") {
		_, err := folder.Stat(path.Join(path.Dir(name), ArrivedFile))
		f.Arriving = err != nil
	}
	tag, err := inspect.TagHead(folder, f.Opens)
	switch {
	case errors.Is(err, fs.ErrNotExist):
	case errors.Is(err, fingerprint.ErrTag):
		f.Tag = &plan.TagFacts{Name: fingerprint.TagName(f.Opens), Problem: err}
	case err != nil:
		return err
	default:
		older := tag.VirtualSize != f.Description.VirtualSize || !tagFits(folder, tag, f.Opens)
		f.Tag = &plan.TagFacts{Name: fingerprint.TagName(f.Opens), Made: tag.Made, Older: older, Doubts: tag.Doubts}
	}
	if f.Description.Layout == "pieces" {
		sums, err := inspect.Sums(folder, f.Opens)
		if err != nil {
			return err
		}
		f.Sums = len(sums) > 0
	}
	if f.Lacks, err = inspect.Lacks(folder, f.Opens, f.Description, tag); err != nil {
		return err
	}
	if inside, err := inspect.Inside(src); err == nil { // what cannot be read is told when it is read
		f.Inside, f.Counts = inside.Doubts, inside.SectorSize
	}
	return nil
}

// disguise tells when a disk that is to be read in a named format looks like another one.
func disguise(folder storage.Folder, p plan.Place) string {
	if p.Format == "" {
		return ""
	}
	found, err := disk.Recognise(folder, p.Path)
	var mismatch *disk.MismatchError
	if errors.As(err, &mismatch) {
		found = mismatch.Found
	}
	if found == "" || found == p.Format {
		return ""
	}
	return fmt.Sprintf("the content looks like %s, but the disk is known or said to be %s and is read as such", found, p.Format)
}
