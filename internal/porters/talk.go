package porters

import (
	"context"
	"crypto/tls"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"time"

	"bagaglio/core/storage"
	"bagaglio/internal/engine"
	"bagaglio/internal/errand"

	"github.com/nats-io/nats-server/v2/server"
	"github.com/nats-io/nats.go"
	"github.com/nats-io/nats.go/jetstream"
)

// startEngine starts the engine, with the queue of work in it, and hears what porters say.
func (s *Porters) startEngine(folder string) (err error) {
	if s.engine, err = engine.Open(folder, s.admit); err != nil {
		return err
	}
	if s.conn, err = s.engine.Connect(); err != nil {
		return fmt.Errorf("connecting to the engine: %w", err)
	}
	ctx, cancel := context.WithTimeout(context.Background(), handshakeIn)
	defer cancel()
	js, err := jetstream.New(s.conn)
	if err == nil {
		_, err = js.CreateOrUpdateStream(ctx, jetstream.StreamConfig{
			Name: errand.Stream, Subjects: []string{errand.Work("*")}, Retention: jetstream.WorkQueuePolicy, MaxMsgSize: engine.MaxMessage,
			Duplicates: time.Hour, // an order is one, however often it is sent
		})
	}
	if err == nil {
		_, err = s.conn.Subscribe(errand.Here("*"), s.here)
	}
	if err == nil {
		_, err = s.conn.Subscribe(errand.AllCalls, s.call)
	}
	if err != nil {
		return fmt.Errorf("preparing the engine: %w", err)
	}
	return nil
}

// admit lets porters connect to the engine, each to its own subjects.
func (s *Porters) admit(name, secret string) (*server.Permissions, bool) {
	p, err := s.records.Porter(context.Background(), name)
	if err != nil || p.Secret == "" || p.Secret != hashOf(secret) {
		return nil, false
	}
	inbox := errand.Inbox(name) + ".>"
	return &server.Permissions{
		Publish: &server.SubjectPermission{Allow: []string{
			errand.Here(name), "errand." + name + ".>", "$JS.API.INFO", "$JS.API.CONSUMER.INFO." + errand.Stream + "." + name,
			"$JS.API.CONSUMER.MSG.NEXT." + errand.Stream + "." + name, "$JS.ACK." + errand.Stream + "." + name + ".>",
		}},
		Subscribe: &server.SubjectPermission{Allow: []string{errand.Stop(name), errand.Grant(name), errand.Reach(name), inbox}},
		Response:  &server.ResponsePermission{MaxMsgs: 1, Expires: time.Minute},
	}, true
}

// toEngine hands on what comes over the connection of a porter.
func (s *Porters) toEngine(name string, conn *tls.Conn) {
	forget := s.note(name, conn)
	defer forget()
	pipe, err := s.engine.Pipe()
	if err == nil {
		err = s.queueOf(name)
	}
	if err != nil {
		s.log.Error("connecting a porter to the engine", "porter", name, "error", err)
		_ = conn.Close() // it tries again
		return
	}
	s.mu.Lock()
	told := s.reached
	s.mu.Unlock()
	if told != nil {
		told(name)
	}
	go func() {
		_, _ = io.Copy(conn, pipe) // until one of both ends
		_ = conn.Close()
	}()
	_, _ = io.Copy(pipe, conn) // likewise
	_ = pipe.Close()
}

// queueOf makes the queue of a porter, unless there is one.
func (s *Porters) queueOf(name string) error {
	ctx, cancel := context.WithTimeout(context.Background(), handshakeIn)
	defer cancel()
	js, err := jetstream.New(s.conn)
	if err != nil {
		return err
	}
	_, err = js.CreateOrUpdateConsumer(ctx, errand.Stream, jetstream.ConsumerConfig{
		Durable: name, FilterSubject: errand.Work(name), AckPolicy: jetstream.AckExplicitPolicy, AckWait: errand.LeaseFor, MaxAckPending: -1,
	})
	return err
}

// here hears that a porter is there, and answers which version the service is of.
func (s *Porters) here(m *nats.Msg) {
	name := errand.PorterOf(m.Subject)
	if err := s.records.HeardPorter(context.Background(), name, string(m.Data), time.Now()); err != nil {
		s.log.Warn("noting that a porter is there", "porter", name, "error", err)
	}
	_ = m.Respond([]byte(s.options.Version)) // it asks again
}

// call hears what a porter says about a job: how far it is in its order, and everything else side by side, since an answer may take long.
func (s *Porters) call(m *nats.Msg) {
	c, what, err := errand.Parse(m.Subject)
	if err != nil {
		return // nobody of ours
	}
	k := key{c.Porter, c.Job, c.Epoch}
	if what == errand.Watch {
		s.told(k, m.Data)
		return
	}
	go s.called(m, k, what)
}

// called answers what a porter asks about a job.
func (s *Porters) called(m *nats.Msg, k key, what string) {
	s.mu.Lock()
	r := s.errands[k]
	s.mu.Unlock()
	var answer any
	if r == nil {
		answer = errand.Answer[struct{}]{Problem: &errand.Problem{Text: "the service knows of no such job of this porter", Outdated: true}}
	} else {
		answer = r.answer(what, m.Data)
	}
	b, err := json.Marshal(answer)
	if err == nil && m.Reply != "" {
		err = m.Respond(b)
	}
	if err != nil && !errors.Is(err, nats.ErrConnectionClosed) {
		s.log.Error("answering a porter", "porter", k.porter, "job", k.job, "error", err)
	}
}

// FromPeer says where one porter reads from another one, or why it cannot.
func (s *Porters) FromPeer(ctx context.Context, reader, from string) (errand.Peer, error) {
	p, err := s.Porter(ctx, from)
	if err != nil {
		return errand.Peer{}, err
	}
	if _, err := s.CanWork(ctx, reader); err != nil {
		return errand.Peer{}, err
	}
	if !p.Connected {
		return errand.Peer{}, fmt.Errorf("%w: the porter %s is not connected", storage.ErrLost, from)
	}
	if p.Is.Peers == "" {
		return errand.Peer{}, fmt.Errorf("the porter %s lets no other porters read from it (porter --peers)", from)
	}
	peer, err := s.reaches(ctx, reader, errand.Peer{Porter: from, Address: p.Is.Peers})
	if err == nil {
		return peer, nil
	}
	if best, ok := s.through(ctx, reader, peer); ok {
		return best, nil
	}
	return peer, err
}

// mostThirds bounds how many are asked whether they can carry.
const mostThirds = 8

// through is the way through a third porter that is the fastest, not ok where there is none.
func (s *Porters) through(ctx context.Context, reader string, peer errand.Peer) (best errand.Peer, ok bool) {
	all, err := s.List(ctx)
	if err != nil {
		return best, false
	}
	tried := 0
	for _, third := range all {
		if third.Name == reader || third.Name == peer.Porter || !third.Connected || third.Paused || third.Is.Peers == "" {
			continue
		}
		if tried++; tried > mostThirds {
			break
		}
		peer.Via, peer.ViaAddress = third.Name, third.Is.Peers
		if s.carries(ctx, reader, peer) != nil {
			continue
		}
		if way, err := s.reaches(ctx, reader, peer); err == nil && (!ok || way.Speed > best.Speed) {
			best, ok = way, true
		}
	}
	return best, ok
}

// carries has a third porter carry what one says to another one.
func (s *Porters) carries(ctx context.Context, reader string, peer errand.Peer) error {
	return s.request(ctx, errand.Grant(peer.Via), errand.Granted{Peer: reader, Carry: peer.Address, For: grantFor}, &struct{}{})
}

// reaches asks a porter whether it reaches another one, and how fast it reads from it, unless that is known.
func (s *Porters) reaches(ctx context.Context, reader string, peer errand.Peer) (errand.Peer, error) {
	asked := pair{reader, peer}
	s.mu.Lock()
	known, ok := s.pairs[asked]
	s.mu.Unlock()
	if ok && (known.err == nil && time.Since(known.at) < pairKnownFor || time.Since(known.at) < failureKnownFor) {
		return known.peer, known.err
	}
	var a errand.Answer[errand.Peer]
	if err := s.request(ctx, errand.Reach(reader), asked.from, &a); err != nil {
		return asked.from, err
	}
	found := reached{peer: a.Value, at: time.Now()}
	if err := a.Problem.Error(); err != nil {
		found.peer = asked.from
		found.err = fmt.Errorf("%w: the porter %s does not reach %s at %s: %w", storage.ErrLost, reader, peer.Porter, peer.Address, err)
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.pairs[asked] = found
	return found.peer, found.err
}

// pairKnownFor is for how long it is known how fast one porter reads from another one, and failureKnownFor that it does not reach it.
const pairKnownFor, failureKnownFor = time.Minute, 5 * time.Second

// pair is a porter that reads from another one.
type pair struct {
	reader string
	from   errand.Peer
}

// reached is what was found of a pair, and when.
type reached struct {
	peer errand.Peer
	at   time.Time
	err  error // why it is not
}

// grantFor is for how long a porter may read from another one, unless that is said again.
const grantFor = 2 * errand.LeaseFor

// grant lets a porter read what a job of it reads.
func (s *Porters) grant(ctx context.Context, reader string, o errand.Order) error {
	for l, used := range o.Read() {
		var done struct{}
		granted := errand.Granted{Peer: reader, Folder: l.Folder, Used: used, For: grantFor}
		if err := s.request(ctx, errand.Grant(l.From.Porter), granted, &done); err != nil {
			return fmt.Errorf("letting %s read from %s: %w", reader, l.From.Porter, err)
		}
		if l.From.Via == "" {
			continue
		}
		if err := s.carries(ctx, reader, *l.From); err != nil {
			return fmt.Errorf("having %s carry from %s to %s: %w", l.From.Via, l.From.Porter, reader, err)
		}
	}
	return nil
}

// request asks a porter something.
func (s *Porters) request(ctx context.Context, subject string, what, answer any) error {
	b, err := json.Marshal(what)
	if err != nil {
		return err
	}
	ctx, cancel := context.WithTimeout(ctx, handshakeIn)
	defer cancel()
	m, err := s.conn.RequestWithContext(ctx, subject, b)
	if err != nil {
		return fmt.Errorf("%w: the porter %s does not answer: %w", storage.ErrLost, errand.PorterOf(subject), err)
	}
	return json.Unmarshal(m.Data, answer)
}
