package recovery

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"time"

	"filippo.io/age"
	"github.com/nats-io/nats.go/jetstream"
)

// Found is what was found in the engine.
type Found struct {
	At     time.Time // as of when, by the clock of who wrote it
	Term   int64
	Holder Holder
	Frames int // behind the snapshot
	Bytes  int64
}

// Restore writes the newest records in the engine into a folder that has none.
func (p *Place) Restore(ctx context.Context, key age.Identity, folder string) (f Found, err error) {
	if f.Holder, _, err = p.holder(ctx); err != nil {
		return f, err
	}
	scratch, err := os.MkdirTemp(folder, "recovery-")
	if err != nil {
		return f, err
	}
	defer os.RemoveAll(scratch)
	into := &restoring{key: key, scratch: scratch, found: &f}
	if err := p.messages(ctx, into.take); err != nil {
		return f, err
	}
	if into.ready == "" {
		return f, errors.New("the engine has no whole snapshot of the records")
	}
	return f, moveAll(into.ready, folder)
}

// messages calls each with those that the stream has, in their order.
func (p *Place) messages(ctx context.Context, each func(jetstream.Msg) error) error {
	info, err := p.info(ctx)
	if err != nil || info.State.Msgs == 0 {
		return err
	}
	consumer, err := p.js.OrderedConsumer(ctx, stream, jetstream.OrderedConsumerConfig{DeliverPolicy: jetstream.DeliverAllPolicy})
	if err != nil {
		return fmt.Errorf("reading the records in the engine: %w", err)
	}
	all, err := consumer.Messages()
	if err != nil {
		return fmt.Errorf("reading the records in the engine: %w", err)
	}
	defer all.Stop()
	defer context.AfterFunc(ctx, all.Stop)()
	for {
		m, err := all.Next()
		if err != nil {
			return fmt.Errorf("reading the records in the engine: %w", errors.Join(err, ctx.Err()))
		}
		meta, err := m.Metadata()
		if err == nil {
			err = each(m)
		}
		if err != nil || meta.Sequence.Stream >= info.State.LastSeq {
			return err
		}
	}
}

// restoring puts frames together. One of which parts are missing, since whoever sent it was killed, is left out, and so is what comes behind it until the next snapshot.
type restoring struct {
	key            age.Identity
	scratch, ready string // a folder for what is going on, and that with whole records
	found          *Found
	frame          string
	file           *os.File
	parts          int
	snapshot       string
	number         int
}

func (r *restoring) take(m jetstream.Msg) error {
	h := m.Headers()
	frame := h.Get(frameHeader)
	if h.Get(partHeader) == "0" {
		if r.file != nil {
			_ = r.file.Close() // it was cut off
		}
		file, err := os.Create(filepath.Join(r.scratch, "frame"))
		if err != nil {
			return err
		}
		r.file, r.frame, r.parts = file, frame, 0
	}
	if r.file == nil || frame != r.frame || h.Get(partHeader) != fmt.Sprint(r.parts) {
		return nil // the end of one whose beginning was removed
	}
	r.parts++
	if _, err := r.file.Write(m.Data()); err != nil || h.Get(lastHeader) == "" {
		return err
	}
	file := r.file
	r.file = nil
	_, err := file.Seek(0, io.SeekStart)
	if err == nil {
		err = r.apply(file)
	}
	return errors.Join(err, file.Close())
}

// apply brings the records to what a whole frame says.
func (r *restoring) apply(file *os.File) error {
	snapshot, number, _ := strings.Cut(r.frame, ".")
	switch {
	case number == "0":
		folder, err := os.MkdirTemp(r.scratch, "records-")
		if err != nil {
			return err
		}
		r.ready, r.snapshot, r.number, r.found.Frames, r.found.Bytes = folder, snapshot, 0, 0, 0
	case snapshot != r.snapshot || number != fmt.Sprint(r.number+1):
		return nil
	default:
		r.number++
		r.found.Frames++
	}
	head, err := readFrame(file, r.key, r.ready)
	if err != nil {
		return err
	}
	if info, err := file.Stat(); err == nil {
		r.found.Bytes += info.Size()
	}
	r.found.At, r.found.Term = head.At, head.Term
	return nil
}

// moveAll moves what lies in one folder into another one.
func moveAll(from, to string) error {
	entries, err := os.ReadDir(from)
	if err != nil {
		return err
	}
	for _, e := range entries {
		if err := os.RemoveAll(filepath.Join(to, e.Name())); err != nil { // a mark, say, that was made just now
			return err
		}
		if err := os.Rename(filepath.Join(from, e.Name()), filepath.Join(to, e.Name())); err != nil {
			return err
		}
	}
	return nil
}
