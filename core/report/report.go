// Package report tells what was moved in a time, proven how, by whom, and what was said of it.
package report

import (
	"time"

	"bagaglio/core/plan"
	"bagaglio/core/receipt"
)

// Item is what a job did. Disks are its own, or those of its parts.
type Item struct {
	Job      int64     `json:"job"`
	Kind     string    `json:"kind"`
	Subject  string    `json:"subject"`
	To       string    `json:"to,omitempty"`
	Who      string    `json:"who,omitempty"`
	Started  time.Time `json:"started"`
	Finished time.Time `json:"finished"`
	Outcome  string    `json:"outcome"`
	Reason   string    `json:"reason,omitempty"`
	Compared string    `json:"compared,omitempty"`
	Read     int64     `json:"bytes_read"`
	Written  int64     `json:"bytes_written"`
	Disks    []Disk    `json:"disks"`
	// Said are warnings of its plan: what is lost on the way, say; Doubts and Remarks are of its receipt.
	Said    []string `json:"said,omitempty"`
	Doubts  []string `json:"doubts,omitempty"`
	Remarks []string `json:"remarks,omitempty"`
}

// Disk is one that was carried or proven.
type Disk struct {
	Source      string `json:"source"`
	Destination string `json:"destination,omitempty"`
	Fingerprint string `json:"fingerprint,omitempty"` // of the destination, or of the source where there is none
	Outcome     string `json:"outcome"`
}

// Report is what was done in a time, the first first.
type Report struct {
	Since    time.Time      `json:"since"`
	Until    time.Time      `json:"until"`
	Made     time.Time      `json:"made"`
	Jobs     int            `json:"jobs"`
	Outcomes map[string]int `json:"outcomes"`
	Read     int64          `json:"bytes_read"`
	Written  int64          `json:"bytes_written"`
	// Receipts is how many receipts there were when it was made, and Head the digest of the last one, by which they are checked.
	Receipts int64  `json:"receipts"`
	Head     string `json:"head,omitempty"`
	Items    []Item `json:"items"`
}

// Add adds what a job did.
func (r *Report) Add(item Item) {
	if r.Outcomes == nil {
		r.Outcomes = map[string]int{}
	}
	r.Items = append(r.Items, item)
	r.Jobs++
	r.Outcomes[item.Outcome]++
	r.Read += item.Read
	r.Written += item.Written
}

// Of is what a job did by its plan and its receipt, which may be nil. What else is known of the job is the caller's to add.
func Of(p plan.Plan, done *receipt.Receipt) Item {
	q := p.Request
	item := Item{Kind: q.Kind, Subject: q.Subject(), Disks: []Disk{}}
	if q.Destination != nil {
		item.To = q.Destination.String()
	}
	for _, c := range p.Checks {
		if c.Severity == plan.Warns {
			item.Said = append(item.Said, c.Message)
		}
	}
	if done == nil {
		return item
	}
	item.Compared, item.Read, item.Written, item.Doubts, item.Remarks = done.Compared, done.BytesRead, done.BytesWritten, done.Doubts, done.Remarks
	parts := done.Parts
	if len(parts) == 0 {
		parts = []receipt.Receipt{*done}
	}
	for _, part := range parts {
		d := Disk{Source: part.Source.Place.String(), Fingerprint: part.Source.Fingerprint, Outcome: string(part.Outcome)}
		if to := part.Destination; to != nil {
			d.Destination, d.Fingerprint = to.Place.String(), to.Fingerprint
		}
		item.Disks = append(item.Disks, d)
	}
	return item
}
