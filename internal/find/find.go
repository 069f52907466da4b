// Package find looks for a text in all that the service knows by a name: disks, machines, jobs, pools, hosts and routines.
package find

import (
	"context"
	"strconv"
	"strings"
	"time"

	"bagaglio/core/plan"
	"bagaglio/internal/machines"
	"bagaglio/internal/places"
	"bagaglio/internal/records"
	"bagaglio/internal/store"
)

// Kind of what is found.
type Kind string

// The kinds, in the order in which they are told.
const (
	Pool    Kind = "pool"
	Host    Kind = "host"
	Machine Kind = "machine"
	Disk    Kind = "disk"
	Job     Kind = "job"
	Routine Kind = "routine"
)

const (
	// ofKind is how many are told of a kind at most.
	ofKind = 20
	// answerIn is how long hosts have to tell their machines.
	answerIn = 2 * time.Second
)

// Hit is something that was found. Place is where a disk lies; Host is that of a machine.
type Hit struct {
	Kind  Kind
	Name  string
	Note  string // what it is, or does
	Place plan.Place
	Host  string
}

// Found is all that was found.
type Found struct {
	Hits []Hit
	More bool   // there are more of a kind than are told
	Away string // hosts that could not be asked for their machines
}

// Finder looks in these.
type Finder struct {
	Records  *records.Records
	Places   *places.Places
	Machines *machines.Machines
}

// Find looks for a text, in any case, and returns what has it in its name, by kinds.
func (f Finder) Find(ctx context.Context, text string) (found Found, err error) {
	text = strings.TrimSpace(text)
	if text == "" {
		return found, nil
	}
	machineHits := make(chan []Hit, 1)
	var away []string
	go func() { // a host that does not answer holds nothing else up
		ctx, cancel := context.WithTimeout(ctx, answerIn)
		defer cancel()
		all, gone, _ := f.Machines.List(ctx, "") // what could not be asked is told
		for _, g := range gone {
			away = append(away, g.Host)
		}
		machineHits <- f.machines(all, text)
	}()
	pools, err := f.Records.Pools(ctx)
	if err != nil {
		return found, err
	}
	var hosts, disks []Hit
	seen := map[string]bool{}
	for _, p := range pools {
		if has(p.Name, text) || has(p.Folder, text) {
			found.Hits = append(found.Hits, Hit{Kind: Pool, Name: p.Name, Note: p.Folder + " on " + p.Host})
		}
		if has(p.Host, text) && !seen[p.Host] {
			seen[p.Host] = true
			hosts = append(hosts, Hit{Kind: Host, Name: p.Host})
		}
		if len(disks) > ofKind {
			continue
		}
		list, err := f.Places.Disks(ctx, p.Name, store.DiskQuery{Search: text, Limit: ofKind + 1}, false)
		if err != nil { // one that is away has none on record
			continue
		}
		for _, d := range list.Disks {
			disks = append(disks, Hit{Kind: Disk, Name: p.Name + ":" + d.Path, Note: d.Called, Place: plan.Place{Pool: p.Name, Path: d.Path}})
		}
	}
	jobs, err := f.jobs(ctx, text)
	if err != nil {
		return found, err
	}
	routines, err := f.routines(ctx, text)
	if err != nil {
		return found, err
	}
	guests := <-machineHits
	found.Away = strings.Join(away, ", ")
	for _, of := range [][]Hit{hosts, guests, disks, jobs, routines} {
		found.More = found.More || len(of) > ofKind
		found.Hits = append(found.Hits, of[:min(len(of), ofKind)]...)
	}
	return found, nil
}

func has(name, text string) bool {
	return strings.Contains(strings.ToLower(name), strings.ToLower(text))
}

func (f Finder) machines(all []machines.Machine, text string) (hits []Hit) {
	for _, m := range all {
		if has(m.Name, text) || has(m.Is.UUID, text) {
			hits = append(hits, Hit{Kind: Machine, Name: m.Name, Note: string(m.State) + " on " + m.Host, Host: m.Host})
		}
	}
	return hits
}

func (f Finder) jobs(ctx context.Context, text string) (hits []Hit, err error) {
	all, err := f.Records.JobsAbout(ctx, text, ofKind+1)
	for _, j := range all {
		r := j.Plan.Request
		hits = append(hits, Hit{Kind: Job, Name: strconv.FormatInt(j.ID, 10), Note: r.Kind + " " + r.Subject() + ", " + string(j.State)})
	}
	return hits, err
}

func (f Finder) routines(ctx context.Context, text string) (hits []Hit, err error) {
	all, err := f.Records.Routines(ctx)
	for _, k := range all {
		if has(k.Name, text) {
			hits = append(hits, Hit{Kind: Routine, Name: k.Name})
		}
	}
	return hits, err
}
