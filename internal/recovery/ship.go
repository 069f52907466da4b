package recovery

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"path/filepath"
	"strconv"
	"sync"
	"time"

	"bagaglio/internal/store"

	"filippo.io/age"
	"github.com/google/uuid"
	"github.com/nats-io/nats.go"
	"github.com/nats-io/nats.go/jetstream"
)

const (
	// partSize is the length of a message, in bytes: engines take a MiB when nobody has said otherwise.
	partSize = 512 << 10
	// headers of a message: the frame that it is a part of, which part, and whether it is the last.
	frameHeader, partHeader, lastHeader = "Bagaglio-Frame", "Bagaglio-Part", "Bagaglio-Last"
	// rests is how many times as long as a frame takes goes by before the next one.
	rests = 10
	// mostFrames and snapshotEvery are how much may have changed before another snapshot is made.
	mostFrames    = 2000
	snapshotEvery = 6 * time.Hour
)

// shipper keeps frames in the engine.
type shipper struct {
	place  *Place
	held   *Held
	o      Options
	to     age.Recipient
	copier *store.Copier

	snapshot string
	number   int
	begun    time.Time
	before   sums
	files    map[string][]byte
	last     uint64 // sequence of the last message of ours
	shipped  int64  // bytes since the snapshot
	size     int64  // of the snapshot
}

// Ship keeps the records in the engine until the context ends, and once more then. The first frame is there when it returns.
func (h *Held) Ship(ctx context.Context, s *store.Store, o Options) (wait func(), err error) {
	to, err := age.ParseX25519Recipient(o.To)
	if err != nil {
		return nil, fmt.Errorf("%q is not what a recovery key is known by (bagaglio recovery key): %w", o.To, err)
	}
	copier, err := s.NewCopier(ctx)
	if err != nil {
		return nil, err
	}
	ship := &shipper{place: h.place, held: h, o: o, to: to, copier: copier}
	info, err := ship.place.info(ctx)
	if err == nil {
		ship.last = info.State.LastSeq
		_, err = ship.frame(ctx)
	}
	if err != nil {
		return nil, errors.Join(err, copier.Close())
	}
	var done sync.WaitGroup
	done.Go(func() {
		ship.run(ctx)
		_ = copier.Close() // it wrote nothing
		_ = os.Remove(filepath.Join(o.State, copyFile))
	})
	return done.Wait, nil
}

func (p *Place) info(ctx context.Context) (*jetstream.StreamInfo, error) {
	ctx, cancel := context.WithTimeout(ctx, callIn)
	defer cancel()
	s, err := p.js.Stream(ctx, stream)
	if err != nil {
		return nil, fmt.Errorf("asking the engine for the records: %w", err)
	}
	return s.Info(ctx)
}

func (s *shipper) run(ctx context.Context) {
	for {
		begun := time.Now()
		ended := ctx.Err() != nil
		working, cancel := context.WithTimeout(context.WithoutCancel(ctx), 10*time.Minute)
		sent, err := s.frame(working)
		cancel()
		switch {
		case errors.Is(err, ErrTakenOver):
			s.held.lose(err)
			return
		case err != nil:
			s.snapshot = "" // what the engine has of it is not known
			s.o.Log.Error("keeping the records in the engine", "error", err)
		case sent:
			s.o.Log.Debug("records kept in the engine", "snapshot", s.snapshot, "frame", s.number)
		}
		if ended {
			return
		}
		select {
		case <-ctx.Done():
		case <-time.After(max(s.o.Every, min(rests*time.Since(begun), time.Minute))):
		}
	}
}

// frame sends what has changed, or all of it.
func (s *shipper) frame(ctx context.Context) (sent bool, err error) {
	files, err := small(s.o.State) // before the records, which may be newer, and not older
	if err != nil {
		return false, err
	}
	at := time.Now()
	name := filepath.Join(s.o.State, copyFile)
	whole := s.snapshot == "" || s.number >= mostFrames || s.shipped > max(s.size, 1<<20) || time.Since(s.begun) > snapshotEvery
	copied, err := s.copier.Copy(ctx, name)
	if err != nil {
		return false, err
	}
	head := Head{Term: s.held.Term, Snapshot: s.snapshot, Number: s.number + 1, At: at, Files: map[string][]byte{}}
	for name, content := range files {
		if old, had := s.files[name]; whole || !had || !bytes.Equal(old, content) {
			head.Files[name] = content
		}
	}
	for name := range maps.Keys(s.files) {
		if _, has := files[name]; !has {
			head.Gone = append(head.Gone, name)
		}
	}
	if !copied && !whole && len(head.Files)+len(head.Gone) == 0 {
		return false, nil
	}
	file, err := os.Open(name)
	if err != nil {
		return false, err
	}
	defer file.Close()
	now, err := sumsOf(file)
	if err != nil {
		return false, err
	}
	before := s.before
	if whole {
		head.Snapshot, head.Number, before = uuid.NewString(), 0, nil
	}
	head.Pages = int64(len(now))
	numbers := changed(before, now)
	first := s.last + 1
	to := &parts{shipper: s, ctx: ctx, frame: head.Snapshot + "." + strconv.Itoa(head.Number)}
	if err := writeFrame(to, s.to, head, file, numbers); err != nil {
		return false, err
	}
	if err := to.flush(true); err != nil {
		return false, err
	}
	s.snapshot, s.number, s.before, s.files = head.Snapshot, head.Number, now, files
	s.shipped += to.sent
	if whole {
		s.begun, s.size, s.shipped = at, to.sent, 0
		err = s.place.purge(ctx, first)
	}
	return true, err
}

// purge removes what lies before a message.
func (p *Place) purge(ctx context.Context, first uint64) error {
	str, err := p.js.Stream(ctx, stream)
	if err == nil {
		err = str.Purge(ctx, jetstream.WithPurgeSequence(first))
	}
	if err != nil {
		return fmt.Errorf("removing older records from the engine: %w", err)
	}
	return nil
}

// parts sends what is written to it in messages. Each is accepted behind the last one of ours alone, so that nobody else writes between them.
type parts struct {
	*shipper
	ctx    context.Context
	frame  string
	buffer bytes.Buffer
	part   int
	sent   int64
}

var _ io.Writer = (*parts)(nil)

func (p *parts) Write(b []byte) (int, error) {
	n := len(b)
	for len(b) > 0 {
		k := min(len(b), partSize-p.buffer.Len())
		p.buffer.Write(b[:k])
		b = b[k:]
		if p.buffer.Len() == partSize {
			if err := p.flush(false); err != nil {
				return 0, err
			}
		}
	}
	return n, nil
}

func (p *parts) flush(last bool) error {
	m := nats.NewMsg(framesSubject)
	m.Data = bytes.Clone(p.buffer.Bytes())
	m.Header.Set(frameHeader, p.frame)
	m.Header.Set(partHeader, strconv.Itoa(p.part))
	if last {
		m.Header.Set(lastHeader, "1")
	}
	ctx, cancel := context.WithTimeout(p.ctx, callIn)
	defer cancel()
	ack, err := p.place.js.PublishMsg(ctx, m, jetstream.WithExpectLastSequence(p.last), jetstream.WithMsgID(p.frame+"."+strconv.Itoa(p.part)))
	var api *jetstream.APIError
	if errors.As(err, &api) && api.ErrorCode == jetstream.JSErrCodeStreamWrongLastSequence {
		return p.behind(err)
	}
	if err != nil {
		return fmt.Errorf("sending records to the engine: %w", err)
	}
	p.last = ack.Sequence
	p.part++
	p.sent += int64(p.buffer.Len())
	p.buffer.Reset()
	return nil
}

// behind finds out why a message of ours was not the next one: somebody else has written, or one of ours did arrive though nobody said so.
func (p *parts) behind(err error) error {
	h, _, lookErr := p.place.holder(p.ctx)
	if lookErr != nil {
		return errors.Join(err, lookErr)
	}
	if h.Run != p.held.me.Run {
		return fmt.Errorf("%w: %s writes records to the engine", ErrTakenOver, h.Name)
	}
	info, infoErr := p.place.info(p.ctx)
	if infoErr == nil {
		p.last = info.State.LastSeq
	}
	return errors.Join(err, infoErr)
}
