package api

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"strconv"
	"time"

	spec "bagaglio/api"
	"bagaglio/core/plan"
	"bagaglio/core/storage"
	"bagaglio/internal/places"
	"bagaglio/internal/planner"
	"bagaglio/internal/queue"
	"bagaglio/internal/store"
)

// views are things as the API shows them, in lists that are never null.
func views[T, V any](things []T, view func(T) V) []V {
	out := make([]V, len(things))
	for i, x := range things {
		out[i] = view(x)
	}
	return out
}

// etag tells whether something is still what it was: it is the same for the same values.
func etag(values ...any) string {
	b, err := json.Marshal(values)
	if err != nil {
		panic(err) // only for values that JSON cannot hold
	}
	sum := sha256.Sum256(b)
	return fmt.Sprintf("%q", hex.EncodeToString(sum[:8]))
}

// known is a value, or nothing where it says nothing.
func known[T comparable](v T) *T {
	var none T
	if v == none {
		return nil
	}
	return &v
}

// or is a value that may be absent.
func or[T any](v *T, absent T) T {
	if v == nil {
		return absent
	}
	return *v
}

// number is the number of a job or group as people write it, nothing for 0.
func number(id int64) *string {
	if id == 0 {
		return nil
	}
	s := strconv.FormatInt(id, 10)
	return &s
}

func viewHost(h places.Host) spec.Host {
	v := spec.Host{
		Name: h.Name, Kind: spec.HostKind(h.Kind), Address: h.Address, User: h.User, TrustedKey: h.TrustedKey,
		LogsInWith: views(h.LogsInWith, func(s string) spec.HostLogsInWith { return spec.HostLogsInWith(s) }),
		Etag:       etag(h.Address, h.User, h.TrustedKey, h.Login, h.Runs.Kind, h.Runs.Socket, h.Runs.URL),
		Runs:       known(h.Runs.Kind), Socket: known(h.Runs.Socket), Machines: known(h.Runs.URL),
	}
	if h.ShownKey != h.TrustedKey {
		v.ShownKey = &h.ShownKey
	}
	return v
}

func viewPool(p places.Pool) spec.Pool {
	v := spec.Pool{
		Etag:    etag(p.Rules),
		Name:    p.Name,
		Host:    p.Host,
		Folder:  p.Folder,
		Volumes: known(p.Volumes),
		Rules:   p.Rules,
		Facts:   p.Facts,
	}
	if len(p.Ways) > 0 {
		ways := views(p.Ways, func(w store.Way) spec.Way { return spec.Way{Host: w.Host, Folder: w.Folder} })
		v.Ways = &ways
	}
	if p.Problem != nil {
		problem := p.Problem.Error()
		v.Problem = &problem
		return v
	}
	v.Reachable, v.Filesystem, v.ReadOnly = true, p.Space.Kind, p.Space.ReadOnly
	if p.Space.Total != storage.Unknown {
		v.Total, v.Free = &p.Space.Total, &p.Space.Free
	}
	if p.Space.LargestFile > 0 {
		v.LargestFile = &p.Space.LargestFile
	}
	return v
}

func viewTrial(t places.Trial) spec.Trial {
	return spec.Trial{Worked: t.Worked, Steps: append([]storage.Tried{}, t.Steps...), Facts: t.Facts}
}

func viewEntry(e places.Entry) spec.DiskEntry {
	return spec.DiskEntry{
		Path:          e.Path,
		Format:        e.Format,
		Layout:        e.Layout,
		VirtualSize:   e.VirtualSize,
		AllocatedSize: e.AllocatedSize,
		FileSize:      e.FileSize,
		Room:          e.Room,
		Modified:      e.Modified,
		Files:         e.Files,
		StandsOn:      append([]string{}, e.Chain...),
		Standing:      append([]string{}, e.Standing...),
		Snapshots:     append([]string{}, e.Snapshots...),
		Machines:      append([]string{}, e.Machines...),
		Problem:       e.Problem,
		Orphan: known(
			e.Orphan,
		),
		Tag:        known(e.Tag),
		Called:     known(e.Called),
		Note:       known(e.Note),
		Dirty:      known(e.Dirty),
		Filesystem: known(e.Filesystem),
		AtLeast:    known(e.AtLeast),
	}
}

func viewList(l places.List) spec.DiskList {
	v := spec.DiskList{
		Items: views(l.Disks, viewEntry), Next: known(l.Next), Total: l.Total, StrayCount: l.Strays, Room: l.Room, Refreshed: known(l.Began),
		Missed: append([]spec.Missed{}, l.Missed...), Refreshing: l.Refreshing, Seen: l.Seen, Of: l.Of,
	}
	if l.Problem != nil {
		v.Problem = known(l.Problem.Error())
	}
	return v
}

func viewHeld(h places.Held) spec.Held {
	v := spec.Held{
		Id: h.ID, Pool: h.Pool, Path: h.Path, Files: h.Files, Size: h.Size, Room: h.Room, Why: h.Why, Since: h.Since, Until: h.Until,
	}
	if v.Machine = h.Machine; h.Moved != "" {
		v.Moved, v.Definitions = &h.Moved, &h.Definitions
	}
	return v
}

func viewTrait(t plan.Trait) spec.Trait {
	return spec.Trait{Name: t.Name, About: t.About, Rules: t.Rules}
}

func viewKept(k planner.Kept) spec.KeptPlan {
	return spec.KeptPlan{Id: k.ID, Blocked: k.Plan.Blocked(), Plan: k.Plan, Job: number(k.Job)}
}

func viewGroupPlan(k planner.KeptGroup) spec.GroupPlan {
	return spec.GroupPlan{
		Id: k.ID, Name: k.Plan.Name, Ready: k.Plan.Ready, Blocked: k.Plan.Blocked(), Done: k.Done, Of: k.Of, Problem: known(k.Plan.Problem),
		Balanced: k.Plan.Balanced, Parts: append([]plan.Part{}, k.Plan.Parts...), Group: number(k.Group),
		Rooms: append([]plan.Room{}, k.Plan.Rooms...),
	}
}

// viewJob is a job with its plan, as it is shown by itself.
func viewJob(j queue.Job) spec.Job {
	v := summary(j)
	shown := j.Plan.Shown()
	v.Plan = &shown
	return v
}

// summary is a job as it is in lists and in news.
func summary(j queue.Job) spec.Job {
	warnings := j.Plan.With(plan.Warns)
	v := spec.Job{
		Id: strconv.FormatInt(j.ID, 10), State: spec.JobState(j.State), Request: j.Plan.Request, Warnings: &warnings, Created: j.Created,
		Started: j.Started, Finished: j.Finished, Ended: j.State.Ended(), Etag: etag(j.Speed, j.Hours), Group: number(j.Group),
		Actions:   views(j.Actions, func(a queue.Action) spec.JobAction { return spec.JobAction(a) }),
		StoppedBy: j.StoppedBy, Speed: j.Speed, Hours: j.Hours, ByItself: j.Trouble, Progress: j.Last, Reason: known(j.Reason),
		Outcome: known(spec.JobOutcome(j.Outcome)), Who: known(j.Who), Size: sizeOf(j.Plan),
	}
	if j.Receipt != nil {
		v.BytesRead = &j.Receipt.BytesRead
	}
	if j.State == store.Asking {
		v.Question = j.Question
	}
	return v
}

// sizeOf is the virtual size of all disks of a plan, in bytes.
func sizeOf(p plan.Plan) (size int64) {
	for _, d := range p.Bodies {
		if d.Before != nil {
			size += d.Before.VirtualSize
		}
	}
	return size
}

func viewGroup(g queue.Group) spec.Group {
	return spec.Group{
		Id: strconv.FormatInt(g.ID, 10), Name: g.Name, Created: g.Created, Jobs: views(g.Jobs, summary),
		Refused: views(g.Refused, func(r queue.Refused) spec.Refused { return spec.Refused{Source: r.Source, Why: r.Why} }),
	}
}

func viewLimit(l store.Limit) spec.Limit {
	return spec.Limit{Scope: spec.LimitScope(l.Scope), Name: l.Name, Jobs: l.Jobs, Speed: l.Speed, Etag: known(etag(l.Jobs, l.Speed))}
}

func viewLease(l store.Lease) spec.Lease {
	since, _ := time.Parse(time.RFC3339Nano, l.Since) // the records wrote it
	return spec.Lease{File: l.File, Job: strconv.FormatInt(l.Job, 10), Writes: l.Writes, Since: since, State: spec.JobState(l.State)}
}

func viewEvent(e store.Event) spec.Event {
	at, _ := time.Parse(time.RFC3339Nano, e.At) // likewise
	return spec.Event{Number: e.Number, At: at, Who: e.Who, Origin: e.Origin, What: e.What, Subject: e.Subject, Result: e.Result}
}
