package disks

import (
	"fmt"

	"bagaglio/core/disk"
	"bagaglio/core/fingerprint"
	"bagaglio/core/inspect"
	"bagaglio/core/receipt"
)

// hits tells what lies in ranges of a disk: the partition, and what is on it.
func hits(src disk.Reader, ranges []fingerprint.Range) (out []receipt.Hit) {
	inside, err := inspect.Inside(src)
	if err != nil { // the tables themselves cannot be read
		return nil
	}
	for _, r := range ranges {
		found := false
		for _, p := range inside.Partitions {
			start, end := max(r.Offset, p.Offset), min(r.Offset+r.Length, p.Offset+p.Length)
			if start >= end {
				continue
			}
			what := fmt.Sprintf("partition %d", p.Number)
			if p.Name != "" {
				what += " (" + p.Name + ")"
			}
			if p.Filesystem != nil {
				what += ", " + p.Filesystem.Kind
				if p.Filesystem.Label != "" {
					what += " " + p.Filesystem.Label
				}
				what += fmt.Sprintf(", at offset %d of the filesystem", start-p.Offset)
			}
			out, found = append(out, receipt.Hit{Range: fingerprint.Range{Offset: start, Length: end - start}, What: what}), true
		}
		switch {
		case found:
		case inside.Table != "":
			out = append(out, receipt.Hit{Range: r, What: "outside of all partitions"})
		case inside.Filesystem != nil:
			out = append(out, receipt.Hit{Range: r, What: inside.Filesystem.Kind + " " + inside.Filesystem.Label})
		}
	}
	return out
}
