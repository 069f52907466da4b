package receipt

import (
	"fmt"
	"strings"

	"bagaglio/core/fit"
	"bagaglio/core/plan"

	"github.com/dustin/go-humanize"
)

// partitionLines are what a receipt says for people of what was read of partitions, where not all of the disk was.
func (r Receipt) partitionLines(line func(name, format string, args ...any)) {
	if r.Skipped > 0 {
		line("Not read", "%s, which read as zeros", plan.Bytes(r.Skipped))
	}
	for _, s := range r.Partitions {
		what := "read whole"
		switch {
		case s.Left:
			what = "left out"
		case s.Skipped > 0:
			what = fmt.Sprintf("%s read of %s", humanize.IBytes(uint64(s.Length-s.Skipped)), humanize.IBytes(uint64(s.Length)))
		case s.Whole != "":
			what += ", since " + s.Whole
		}
		if s.State != "" {
			what += "; on the new image: " + s.State
		}
		line("", "%s: %s", s.Called(), what)
	}
}

// fitLines are what a receipt says for people of a disk that got another size.
func fitLines(l fit.Layout, line func(name, format string, args ...any)) {
	iec := func(n int64) string { return humanize.IBytes(uint64(n)) }
	line("Fitted", "from %s to %s", iec(l.Before), iec(l.Size))
	for _, p := range l.Parts {
		var words []string
		if p.Length != p.FromLength {
			words = append(words, fmt.Sprintf("from %s to %s", iec(p.FromLength), iec(p.Length)))
		}
		if p.Offset != p.From {
			words = append(words, fmt.Sprintf("moved from %s to %s", iec(p.From), iec(p.Offset)))
		}
		if p.Files > 0 {
			words = append(words, fmt.Sprintf("%d files and folders are the same before and after", p.Files))
		}
		if p.Note != "" {
			words = append(words, p.Note)
		}
		if len(words) > 0 {
			line("", "%s: %s", p.Called(), strings.Join(words, "; "))
		}
	}
}
