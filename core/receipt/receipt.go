// Package receipt says what a finished job proves: what was read, written and compared, with the figures.
package receipt

import (
	"fmt"
	"io"
	"slices"
	"strings"
	"text/tabwriter"
	"time"

	"bagaglio/core/fingerprint"
	"bagaglio/core/fit"
	"bagaglio/core/inspect"
	"bagaglio/core/plan"

	"github.com/dustin/go-humanize"
)

// Outcome tells how a job ended.
type Outcome string

// The outcomes. Damaged is for jobs that went on past unreadable ranges.
const (
	Proven    Outcome = "proven"
	Unproven  Outcome = "unproven"
	Failed    Outcome = "failed"
	Cancelled Outcome = "cancelled"
	Damaged   Outcome = "damaged"
)

// Side is one disk of a receipt.
type Side struct {
	plan.Side
	Fingerprint string `json:"fingerprint,omitempty"`
	// FingerprintFrom says what it was taken of (FromContent, FromFiles, FromTag), and FingerprintAt when that was read.
	FingerprintFrom string     `json:"fingerprint_from,omitempty"`
	FingerprintAt   *time.Time `json:"fingerprint_at,omitempty"`
}

// Done is a step that ended.
type Done struct {
	Name           string  `json:"name"`
	Title          string  `json:"title"`
	Bytes          int64   `json:"bytes"`
	Seconds        float64 `json:"seconds"`
	BytesPerSecond float64 `json:"bytes_per_second"`
	// LimitedBy is what most of the time went to, and LimitedShare its share of it.
	LimitedBy    string  `json:"limited_by,omitempty"`
	LimitedShare float64 `json:"limited_share,omitempty"`
}

// FileSum is the SHA-256 of a copied file.
type FileSum struct {
	Name   string `json:"name"`
	SHA256 string `json:"sha256"`
}

// Receipt is what a finished job proves. Sizes are in bytes.
type Receipt struct {
	ID      string  `json:"id"`
	Kind    string  `json:"kind"`
	Outcome Outcome `json:"outcome"`
	// Reason says why, where the outcome is not proven.
	Reason      string `json:"reason,omitempty"`
	Source      Side   `json:"source"`
	Destination *Side  `json:"destination,omitempty"`
	Against     string `json:"against,omitempty"` // the fingerprint to prove against, where the request names one
	Other       *Side  `json:"other,omitempty"`   // the disk to prove against, where it names one
	Tag         string `json:"tag,omitempty"`     // the tag that it was proven against
	Porter      string `json:"porter,omitempty"`  // who did it, where that was not the service
	Compared    string `json:"compared"`          // what was compared with what, in words
	BytesRead   int64  `json:"bytes_read"`
	// Skipped is what of the source was not read, since filesystems do not use it or its partition was left out, and reads as zeros; Partitions tells
	// what was read of each, and what a check of its filesystem on the new image said.
	Skipped    int64           `json:"skipped,omitempty"`
	Partitions []inspect.Share `json:"partitions,omitempty"`
	// Fit is where partitions were put on a disk that got another size, and how many of their files were compared before and after.
	Fit *fit.Layout `json:"fit,omitempty"`
	// Adapted is what was changed on the proven copy, so that its guest starts in its new place; nil where nothing was.
	Adapted *Adapted `json:"adapted,omitempty"`
	// BytesWritten are bytes of the disk; structures of the format come on top.
	BytesWritten  int64               `json:"bytes_written"`
	BytesCompared int64               `json:"bytes_compared"`
	Differences   []fingerprint.Range `json:"differences,omitempty"` // where a proof failed, the first ranges of the disk
	Unreadable    []fingerprint.Range `json:"unreadable,omitempty"`  // of the source: zeros in the copy
	Damage        []inspect.Hit       `json:"damage,omitempty"`      // what lies in ranges that differ or could not be read
	Sums          []FileSum           `json:"sums,omitempty"`        // of copied files, where the destination's host took them
	// Doubts are what is known against the content of the source, in sentences.
	Doubts []string `json:"doubts,omitempty"`
	// Earlier is what the tag beside the source said, nil where there was none or nothing was read.
	Earlier *Earlier `json:"earlier,omitempty"`
	Retries int64    `json:"retries,omitempty"` // reads and writes that were tried again
	Resumed int      `json:"resumed,omitempty"` // how often it went on after it was interrupted
	// Passes is how often what differed was copied while a machine ran, and StoppedMs for how long its guest stood still in all, at most, in milliseconds.
	Passes    int       `json:"passes,omitempty"`
	StoppedMs int64     `json:"stopped_ms,omitempty"`
	Remarks   []string  `json:"remarks,omitempty"`
	Steps     []Done    `json:"steps"`
	Started   time.Time `json:"started"`
	Finished  time.Time `json:"finished"`
	Seconds   float64   `json:"seconds"`
	// Parts are the receipts of each disk of a job that has several. Then sides, fingerprints and the like are theirs.
	Parts []Receipt `json:"parts,omitempty"`
	// Machine is what became of the machine, nil where only disks were carried.
	Machine *Machine `json:"machine,omitempty"`
}

// worst are the outcomes, the one that says most against a job first.
var worst = []Outcome{Failed, Cancelled, Damaged, Unproven, Proven}

// Add adds the receipt of one disk to that of a job which has several. The outcome is the worst of all.
func (r *Receipt) Add(part Receipt) {
	if part.Machine != nil {
		r.Machine = part.Machine
		r.Passes, r.StoppedMs = part.Passes, part.StoppedMs
		r.Steps, r.Remarks = append(r.Steps, part.Steps...), append(r.Remarks, part.Remarks...)
	}
	if part.Outcome == "" { // it did not come that far
		part.Outcome, part.Reason = Unproven, "nothing of it was compared"
	}
	if r.Outcome == "" || slices.Index(worst, part.Outcome) < slices.Index(worst, r.Outcome) {
		r.Outcome, r.Reason = part.Outcome, part.Reason
	}
	if !slices.Contains(strings.Split(r.Compared, "; "), part.Compared) {
		r.Compared = strings.TrimPrefix(r.Compared+"; "+part.Compared, "; ")
	}
	r.BytesRead += part.BytesRead
	r.BytesWritten += part.BytesWritten
	r.BytesCompared += part.BytesCompared
	r.Retries += part.Retries
	r.Resumed = max(r.Resumed, part.Resumed)
	if part.Machine == nil {
		parts := part.Parts // of a package, those of its disks
		if len(parts) == 0 {
			parts = []Receipt{part}
		}
		r.Parts = append(r.Parts, parts...)
	}
}

// Earlier is what the tag beside a source said before it was read, and how what was read differs from that.
type Earlier struct {
	Tag         string    `json:"tag"`
	Fingerprint string    `json:"fingerprint"`
	Made        time.Time `json:"made"`
	// Older tells that files of the disk were written to after the tag was made, as a machine that runs does.
	Older bool `json:"older,omitempty"`
	// Differences are the first ranges of the disk in which they differ, whole leaves.
	Differences []fingerprint.Range `json:"differences,omitempty"`
}

// Where the fingerprint of a receipt comes from.
const (
	FromContent = "content" // the content of the disk was read by the job
	FromPart    = "part"    // the part of the content that was to be read was, with zeros for the rest
	FromFitted  = "fitted"  // the content was read as it was made to fit to another size
	FromFiles   = "files"   // its files are proven to be those of the source, whose content was read by the job
	FromFolder  = "folder"  // all that lies in a folder was read by the job, with what its filesystem keeps of it
	FromTag     = "tag"     // its tag says so, and nothing was read
)

// Read notes the fingerprint of content that was just read.
func (s *Side) Read(sum fingerprint.Fingerprint, from string) {
	now := time.Now()
	s.Fingerprint, s.FingerprintFrom, s.FingerprintAt = sum.String(), from, &now
}

// fingerprintFrom says for people where a fingerprint comes from.
var fingerprintFrom = map[string]string{
	FromContent: "taken of its content, read",
	FromPart:    "taken of what was read of it, with zeros for the rest, read",
	FromFitted:  "taken of it as it was made to fit to its new size, read",
	FromFiles:   "taken of the source; its files were proven",
	FromFolder:  "taken of all names in it, with what its filesystem keeps of each, read",
	FromTag:     "said by its tag and not read now; made",
}

// WriteText writes the receipt for people.
func (r Receipt) WriteText(out io.Writer) error {
	var b strings.Builder
	w := tabwriter.NewWriter(&b, 0, 0, 2, ' ', 0)
	line := func(name string, format string, args ...any) {
		_, _ = fmt.Fprintf(w, "%s\t%s\n", name, fmt.Sprintf(format, args...)) // a strings.Builder takes everything
	}
	outcome := strings.ToUpper(string(r.Outcome))
	if n := len(r.Doubts); n > 0 {
		outcome += fmt.Sprintf(", with %d doubt(s) about the source", n)
	}
	line("Outcome", "%s", outcome)
	if r.Reason != "" {
		line("Reason", "%s", r.Reason)
	}
	side := func(title string, s Side) {
		line(title, "%s", s.Place)
		if s.Format == "" {
			return
		}
		line("", "%s, %s", s.Format, s.Layout)
		line("", "virtual size %s", plan.Bytes(s.VirtualSize))
		line("", "allocated %s", plan.Bytes(s.AllocatedSize))
		line("", "file size %s", plan.Bytes(s.FileSize))
		if s.Fingerprint != "" {
			line("", "%s", s.Fingerprint)
		}
		if s.FingerprintAt != nil {
			line("", "%s at %s", fingerprintFrom[s.FingerprintFrom], plan.Clock(*s.FingerprintAt))
		}
	}
	if r.Source.Place.Path != "" {
		side("Source", r.Source)
	}
	if r.Destination != nil {
		side("Destination", *r.Destination)
	}
	if r.Other != nil {
		side("Against", *r.Other)
	}
	if r.Machine != nil {
		r.Machine.lines(line)
	}
	for i, p := range r.Parts {
		to := ""
		if p.Destination != nil {
			to = fmt.Sprintf(" -> %s (%s, %s)", p.Destination.Place, p.Destination.Format, p.Destination.Layout)
		}
		line(fmt.Sprintf("Disk %d", i+1), "%s: %s (%s, %s)%s", p.Outcome, p.Source.Place, p.Source.Format, p.Source.Layout, to)
		if p.Source.Fingerprint != "" {
			line("", "%s", p.Source.Fingerprint)
		}
		p.partitionLines(line)
		if p.Fit != nil {
			fitLines(*p.Fit, line)
		}
		p.Adapted.lines(line)
		for _, d := range p.Doubts {
			line("", "doubt: %s", d)
		}
	}
	if r.Against != "" && r.Other == nil {
		line("Against", "%s", r.Against)
	}
	if r.Tag != "" {
		line("Tag", "%s", r.Tag)
	}
	if r.Porter != "" {
		line("Done by", "the porter %s", r.Porter)
	}
	if r.Compared != "" {
		line("Compared", "%s", r.Compared)
	}
	for _, s := range slices.SortedFunc(slices.Values(r.Sums), func(a, b FileSum) int { return strings.Compare(a.Name, b.Name) }) {
		line("SHA-256", "%s  %s", s.SHA256, s.Name)
	}
	for _, d := range r.Differences {
		line("Differs", "%s at offset %d", plan.Bytes(d.Length), d.Offset)
	}
	for _, d := range r.Unreadable {
		line("Unreadable", "%s at offset %d", plan.Bytes(d.Length), d.Offset)
	}
	for _, h := range r.Damage {
		line("Damaged", "%s at offset %d: %s", plan.Bytes(h.Length), h.Offset, h.What)
	}
	for _, d := range r.Doubts {
		line("Doubt", "%s", d)
	}
	for _, remark := range r.Remarks {
		line("Remark", "%s", remark)
	}
	line("Read", "%s", plan.Bytes(r.BytesRead))
	r.partitionLines(line)
	if r.Fit != nil {
		fitLines(*r.Fit, line)
	}
	r.Adapted.lines(line)
	if r.Destination != nil {
		line("Written", "%s", plan.Bytes(r.BytesWritten))
	}
	for _, s := range r.Steps {
		speed := ""
		if s.BytesPerSecond > 0 {
			speed = fmt.Sprintf(", %s/s", humanize.IBytes(uint64(s.BytesPerSecond)))
		}
		if s.LimitedBy != "" {
			speed += fmt.Sprintf(", limited by %s (%.0f %% of the time)", s.LimitedBy, 100*s.LimitedShare)
		}
		line("Step "+s.Name, "%.2f s%s", s.Seconds, speed)
	}
	if r.Resumed > 0 {
		line("Went on", "%d time(s) after it was interrupted", r.Resumed)
	}
	if r.Passes > 0 {
		line("While it ran", "copied in %d pass(es); its guest stood still for %.2f s in all, at most", r.Passes, float64(r.StoppedMs)/1000)
	}
	if r.Retries > 0 {
		line("Tried again", "%d read(s) and write(s)", r.Retries)
	}
	line("Started", "%s", r.Started.Local().Format("2006-01-02 15:04:05 MST"))
	line("Took", "%.2f s", r.Seconds)
	if err := w.Flush(); err != nil {
		return err
	}
	_, err := io.WriteString(out, b.String())
	return err
}
