package cli

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"sync"

	"bagaglio/api"
	"bagaglio/client"
	"bagaglio/core/disk"
	"bagaglio/core/fingerprint"
	"bagaglio/core/inspect"
	"bagaglio/core/plan"
	"bagaglio/core/receipt"
	"bagaglio/core/step"
	"bagaglio/core/storage"
)

// across returns who makes an image out of a pool here, or of what is here in a pool, through the service.
func (a *app) across(r plan.Request) (worker, error) {
	service, err := a.dial()
	if err != nil {
		return nil, err
	}
	state, err := a.stateFolder()
	if err != nil {
		return nil, err
	}
	there := &remote{app: a, service: service}
	here := spot{far: service, within: a.within, state: state}
	if isHere(r.Source) {
		return &up{remote: there, here: here}, nil
	}
	if a.pace != (pace{}) || a.detached != nil {
		return nil, usage("what comes to this computer is written by this command: speed, hours and detaching are for jobs of the service")
	}
	return &down{spot: here, there: there}, nil
}

// down makes an image here out of one in a pool, which is read through the service. Meanwhile the service reads it itself, where it lies.
type down struct {
	spot
	there *remote
}

func (d *down) plan(ctx context.Context, r plan.Request) (plan.Plan, error) {
	p, err := d.spot.plan(ctx, r)
	if err != nil || !d.compares() {
		return p, err
	}
	theirs, err := d.there.plan(ctx, plan.Request{Kind: plan.Prove, Source: r.Source, AsItIs: r.AsItIs})
	if err != nil {
		return p, err
	}
	for _, c := range theirs.Checks {
		if c.Severity != plan.Informs {
			p.Checks = withCheck(p.Checks, c)
		}
	}
	return p, nil
}

// withCheck adds a check, unless it is said already.
func withCheck(all []plan.Check, c plan.Check) []plan.Check {
	if slices.ContainsFunc(all, func(other plan.Check) bool { return other.Message == c.Message }) {
		return all
	}
	return append(all, c)
}

// compares tells whether what was read here can be compared with what the service reads: it reads the whole.
func (d *down) compares() bool { return !d.asked.NoProof && d.asked.Selection().All() }

func (d *down) run(ctx context.Context, watch func(step.Progress)) (receipt.Receipt, error) {
	if !d.compares() {
		return d.spot.run(ctx, watch)
	}
	job, err := d.there.service.Start(ctx, api.NewJob{Plan: d.there.id})
	if err != nil {
		return receipt.Receipt{}, err
	}
	r, err := d.spot.run(ctx, watch)
	if err != nil {
		_, cancelErr := d.there.service.Cancel(context.WithoutCancel(ctx), job.Id)
		return r, errors.Join(err, cancelErr)
	}
	d.there.app.remark("Job %s: the service reads the disk where it lies.", job.Id)
	theirs, err := d.there.app.follow(ctx, d.there.service, job.Id, watch)
	switch {
	case err != nil:
		r.Outcome, r.Reason = receipt.Unproven, "the service could not read the disk where it lies: "+err.Error()
	case theirs.Source.Fingerprint != r.Source.Fingerprint:
		r.Outcome = receipt.Failed
		r.Reason = fmt.Sprintf("what arrived here has %s, and the disk has %s where it lies", r.Source.Fingerprint, theirs.Source.Fingerprint)
		err = fmt.Errorf("%w: %s", step.ErrNotProven, r.Reason)
	default:
		r.Remarks = append(r.Remarks, fmt.Sprintf("The service read the same where the disk lies (job %s).", job.Id))
	}
	return r, err
}

// up makes an image in a pool out of one that is here: its content is sent to the service, read back there, and a job of the service goes on from that.
type up struct {
	*remote
	here    spot
	asked   plan.Request
	source  disk.Reader
	folder  storage.Folder
	times   string // of the files of the source, so that a change is seen
	arrives api.Upload
}

func (u *up) plan(ctx context.Context, r plan.Request) (plan.Plan, error) {
	u.asked = r
	mine, err := u.here.plan(ctx, r)
	if err != nil || mine.Blocked() {
		return mine, err
	}
	name := ""
	if u.folder, name, err = u.here.source(r.Source); err != nil {
		return mine, err
	}
	at := r.Source
	at.Path = name
	if u.source, err = inspect.Open(ctx, at.Origin(u.folder), at.Format, r.Selection()); err != nil {
		return mine, step.Explain(err)
	}
	if u.times, err = u.seen(); err != nil {
		return mine, err
	}
	at.Path, err = filepath.Abs(r.Source.Path)
	if err != nil {
		return mine, err
	}
	sum := sha256.Sum256(fmt.Append(nil, at, u.times, r.Selection()))
	key := hex.EncodeToString(sum[:])
	room, err := stored(u.source)
	if err != nil {
		return mine, err
	}
	u.arrives, err = u.service.BeginUpload(ctx, r.Destination.Pool, api.NewUpload{Key: &key, Size: u.source.Size(), Room: &room})
	if err != nil {
		return mine, err
	}
	theirs, err := u.remote.plan(ctx, u.request())
	if err != nil {
		return mine, errors.Join(err, u.drop(ctx))
	}
	if r.ByRules { // they may have changed it
		mine.After = theirs.After
	}
	for _, c := range theirs.Checks { // of the rules of its pool, for example
		if c.Severity != plan.Informs && c.Name != plan.Arriving { // which it is until it is sent
			mine.Checks = withCheck(mine.Checks, c)
		}
	}
	return mine, nil
}

// request is that of the service, once all is there.
func (u *up) request() plan.Request {
	r := u.asked
	r.Source = plan.Place{Pool: r.Destination.Pool, Path: u.arrives.Content, Format: "raw"}
	r.UsedOnly, r.Without, r.AsItIs = false, nil, false // it is left out here
	return r
}

func (u *up) drop(ctx context.Context) error {
	return u.service.DropUpload(context.WithoutCancel(ctx), u.arrives.Pool, u.arrives.Id)
}

// seen is what tells that a file of the source has changed.
func (u *up) seen() (string, error) {
	var all strings.Builder
	d := u.source.Describe()
	for _, name := range append(slices.Clone(d.Files), d.Chain...) {
		info, err := u.folder.Stat(name)
		if err != nil {
			return "", fmt.Errorf("looking at %s: %w", name, err)
		}
		fmt.Fprintln(&all, name, info.Size, info.Modified.UnixNano(), info.Changed.UnixNano(), info.ID)
	}
	return all.String(), nil
}

// stored is how much of a disk is not empty, in bytes.
func stored(d disk.Reader) (bytes int64, err error) {
	for off := int64(0); off < d.Size(); {
		e, err := d.Extent(off)
		if err != nil {
			return 0, err
		}
		if e.Kind != disk.Zero {
			bytes += e.Len
		}
		off += e.Len
	}
	return bytes, nil
}

// sparse is a disk of which is known what it does not store.
type sparse struct{ disk.Reader }

func (s sparse) Empty(off, n int64) bool {
	e, err := s.Extent(off)
	return err == nil && e.Kind == disk.Zero && e.Off+e.Len >= off+n
}

var _ client.Sparse = sparse{}

func (u *up) run(ctx context.Context, watch func(step.Progress)) (receipt.Receipt, error) {
	defer func() { _ = errors.Join(u.source.Close(), u.folder.Close()) }() // both were only read
	found, err := u.send(ctx, watch)
	if err != nil {
		return receipt.Receipt{}, err
	}
	if now, err := u.seen(); err != nil || now != u.times {
		return receipt.Receipt{}, errors.Join(
			err,
			u.drop(ctx),
			errors.New("the disk was changed while it was sent: nothing was made of it: start again"),
		)
	}
	if _, err := u.remote.plan(ctx, u.request()); err != nil { // of what is there now
		return receipt.Receipt{}, err
	}
	r, err := u.remote.run(ctx, watch)
	if err != nil {
		return r, err
	}
	r.Source.Side = u.here.show(u.here.planned.Before[0], u.asked.Source)
	if r.Source.Fingerprint != found.String() {
		r.Outcome, r.Reason = receipt.Failed, fmt.Sprintf("%s was read here, and %s there", found, r.Source.Fingerprint)
		return r, fmt.Errorf("%w: %s", step.ErrNotProven, r.Reason)
	}
	r.Remarks = append(r.Remarks, "It has the fingerprint of what was read on this computer.")
	return r, u.drop(ctx)
}

// send sends the content, and returns the fingerprint of what was read here.
func (u *up) send(ctx context.Context, watch func(step.Progress)) (fingerprint.Fingerprint, error) {
	const perPiece = 4 // leaves
	total := fingerprint.NewLeaves(u.arrives.Size).Total()
	leaves := make([]fingerprint.Digest, total)
	var mu sync.Mutex
	progress := step.Progress{
		Step:   "send",
		Title:  "Send the content, which is read back there",
		Number: 1,
		Steps:  1,
		Total:  2 * u.arrives.Size,
	}
	_, err := u.service.Send(ctx, u.arrives, sparse{u.source}, func(here, there int64) {
		mu.Lock()
		defer mu.Unlock()
		progress.Done += here + there
		watch(progress)
	}, func(piece int, content []byte) {
		for n := int64(piece) * perPiece; n < min(total, int64(piece+1)*perPiece); n++ {
			length := min(fingerprint.LeafSize, u.arrives.Size-n*fingerprint.LeafSize)
			if len(content) == 0 {
				leaves[n] = fingerprint.ZeroLeaf(int(length))
				continue
			}
			leaves[n] = fingerprint.Leaf(content[:length])
			content = content[length:]
		}
	})
	if err != nil {
		return fingerprint.Fingerprint{}, err
	}
	all := fingerprint.NewLeaves(u.arrives.Size)
	all.Append(leaves...)
	return all.Sum()
}
