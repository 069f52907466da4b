package records

import (
	"compress/gzip"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"time"

	"bagaglio/core/storage/local"
	"bagaglio/internal/store"
)

const (
	// archiveFolder is the folder in the state folder with what has left the log: a file of lines in JSON for each time, compressed.
	archiveFolder = "log-archive"
	// mostArchives is how many of those are kept.
	mostArchives = 50
	// archiveAtOnce is how many lines leave the log together. More than that have to be too many or too old before any do.
	archiveAtOnce = 5000
)

// archive is where lines go that leave the log.
type archive struct {
	dir string
	Options
}

// Archive puts lines of the log aside that are too many, or too old.
func (r *Records) Archive(now time.Time) {
	ctx := context.Background()
	for {
		lines, err := r.OldestEvents(ctx, r.archive.LogLines, r.archive.LogAge, now, archiveAtOnce)
		if err == nil && len(lines) < archiveAtOnce {
			return
		}
		if err == nil {
			err = r.archive.put(lines)
		}
		if err == nil {
			err = r.DropEvents(ctx, lines[len(lines)-1].Number)
		}
		if err != nil {
			r.log.Error("putting old lines of the log aside", "error", err)
			return
		}
	}
}

// put writes lines into a file of the archive, and drops the oldest files.
func (a archive) put(lines []store.Event) (err error) {
	if err := os.MkdirAll(a.dir, 0o700); err != nil {
		return err
	}
	name := filepath.Join(a.dir, fmt.Sprintf("%012d-%012d.jsonl.gz", lines[0].Number, lines[len(lines)-1].Number))
	file, err := os.OpenFile(name, os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	z := gzip.NewWriter(file)
	out := json.NewEncoder(z)
	for _, l := range lines {
		err = errors.Join(
			err,
			out.Encode(
				map[string]any{
					"number":  l.Number,
					"at":      l.At,
					"who":     l.Who,
					"origin":  l.Origin,
					"what":    l.What,
					"subject": l.Subject,
					"result":  l.Result,
				},
			),
		)
	}
	if err = errors.Join(err, z.Close(), file.Sync(), file.Close(), local.SyncFolder(a.dir)); err != nil {
		return err
	}
	files, err := filepath.Glob(filepath.Join(a.dir, "*.jsonl.gz"))
	slices.Sort(files)
	for _, old := range files[:max(0, len(files)-mostArchives)] {
		err = errors.Join(err, os.Remove(old))
	}
	return err
}
