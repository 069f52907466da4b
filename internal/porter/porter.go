package porter

import (
	"bufio"
	"context"
	"crypto/tls"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"os/user"
	"runtime"
	"sync"
	"time"

	"bagaglio/internal/door"
	"bagaglio/internal/errand"
	"bagaglio/internal/porters"
	"bagaglio/internal/state"

	"github.com/nats-io/nats.go"
	"github.com/nats-io/nats.go/jetstream"
)

const (
	// spare is how many connections wait for the service to use them.
	spare = 2
	// again and atMost are how long a porter waits before it connects again: longer each time.
	again, atMost = 500 * time.Millisecond, 15 * time.Second
	dialIn        = 15 * time.Second
	// callIn is for how long an answer of the service is waited for before it is asked again.
	callIn = 5 * time.Second
	day    = 24 * time.Hour
)

// Porter is one that runs.
type Porter struct {
	id      *Identity
	version string
	log     *slog.Logger
	began   time.Time
	conn    *nats.Conn
	jobs    jobs
	grants  grants
	cuts    cuts
	peers   string // address at which other porters read, empty for none
}

// Run works for the service until the context ends. Other porters read from it at the address peers, unless that is empty.
func Run(ctx context.Context, id *Identity, version, peers string, log *slog.Logger) error {
	if err := state.Private(id.state); err != nil {
		return err
	}
	lock, err := state.Lock(id.state, "porter")
	if err != nil {
		return err
	}
	defer lock.Close()
	p := &Porter{id: id, version: version, log: log, began: time.Now(), jobs: jobs{all: map[int64]*doing{}}}
	inside, err := door.OpenInside(id.state)
	if err != nil {
		return err
	}
	inside.Sockets, inside.Commands = true, true
	ctx, stop := context.WithCancel(ctx)
	var all sync.WaitGroup
	defer all.Wait()
	defer stop()
	if peers != "" {
		if err := p.serve(ctx, peers); err != nil {
			return err
		}
	}
	for range spare {
		all.Go(func() { p.offer(ctx, inside) })
	}
	all.Go(func() { p.renewals(ctx) })
	if p.conn, err = p.connect(ctx); err != nil {
		return err
	}
	defer p.conn.Close()
	for subject, hear := range map[string]nats.MsgHandler{
		errand.Stop(id.Porter): p.stopped, errand.Grant(id.Porter): p.granted, errand.Reach(id.Porter): func(m *nats.Msg) { go p.reaches(m) },
	} {
		if _, err := p.conn.Subscribe(subject, hear); err != nil {
			return fmt.Errorf("hearing what the service says: %w", err)
		}
	}
	all.Go(func() { p.here(ctx) })
	log.Info("working", "porter", id.Porter, "service", id.Service)
	err = p.work(ctx)
	p.jobs.wait()
	return err
}

// dial connects to the service for something.
func (p *Porter) dial(ctx context.Context, protocol string) (net.Conn, error) {
	config, err := p.id.config(protocol)
	if err != nil {
		return nil, err
	}
	ctx, cancel := context.WithTimeout(ctx, dialIn)
	defer cancel()
	conn, err := (&tls.Dialer{Config: config}).DialContext(ctx, "tcp", p.id.Service)
	if err != nil {
		return nil, err
	}
	secured, ok := conn.(*tls.Conn)
	if !ok || secured.ConnectionState().NegotiatedProtocol != protocol {
		return nil, errors.Join(fmt.Errorf("what answers at %s is no service of this version", p.id.Service), conn.Close())
	}
	return secured, nil
}

// offer has one connection wait for the service to use it, and another one as soon as it does.
func (p *Porter) offer(ctx context.Context, inside *door.Door) {
	wait := again
	for ctx.Err() == nil {
		conn, err := p.dial(ctx, porters.ProtocolLine)
		var first *begun
		if err == nil {
			first, err = begins(ctx, conn)
		}
		if err != nil {
			p.log.Debug("waiting for the service", "error", err)
			select {
			case <-ctx.Done():
			case <-time.After(wait):
			}
			wait = min(2*wait, atMost)
			continue
		}
		wait = again
		go func() {
			defer context.AfterFunc(ctx, func() { _ = conn.Close() })()
			inside.ServeConn(first)
		}()
	}
}

// begun is a connection of which the first byte has come.
type begun struct {
	net.Conn
	in *bufio.Reader
}

func (b *begun) Read(p []byte) (int, error) { return b.in.Read(p) }

// begins waits until the other end of a connection says something.
func begins(ctx context.Context, conn net.Conn) (*begun, error) {
	defer context.AfterFunc(ctx, func() { _ = conn.Close() })()
	b := &begun{conn, bufio.NewReader(conn)}
	if _, err := b.in.Peek(1); err != nil {
		return nil, errors.Join(err, conn.Close())
	}
	return b, nil
}

// renewals renews the certificate in time.
func (p *Porter) renewals(ctx context.Context) {
	for {
		if err := p.id.renew(ctx); err != nil && ctx.Err() == nil {
			p.log.Error("renewing the certificate", "error", err)
		}
		select {
		case <-ctx.Done():
			return
		case <-time.After(day):
		}
	}
}

// toEngine connects to the engine through the service.
type toEngine struct {
	porter *Porter
	ctx    context.Context
}

func (e toEngine) Dial(string, string) (net.Conn, error) {
	return e.porter.dial(e.ctx, porters.ProtocolEngine)
}

// connect connects to the engine, now or as soon as that is possible.
func (p *Porter) connect(ctx context.Context) (*nats.Conn, error) {
	conn, err := nats.Connect(
		"nats://"+p.id.Service,
		nats.SetCustomDialer(toEngine{p, ctx}),
		nats.UserInfo(p.id.Porter, p.id.Engine),
		nats.Name(p.id.Porter),
		nats.CustomInboxPrefix(errand.Inbox(p.id.Porter)),
		nats.DisconnectErrHandler(func(*nats.Conn, error) { p.cuts.happened() }),
		nats.MaxReconnects(-1),
		nats.RetryOnFailedConnect(true),
		nats.CustomReconnectDelay(
			func(tries int) time.Duration { return min(again<<min(tries, 10), atMost) },
		),
		nats.PingInterval(errand.RenewEvery),
		nats.MaxPingsOutstanding(2),
		nats.ReconnectBufSize(-1),
	)
	if err != nil {
		return nil, fmt.Errorf("connecting to the service: %w", err)
	}
	return conn, nil
}

// cuts tells who waits that the connection to the engine was cut.
type cuts struct {
	sync.Mutex
	next chan struct{} // closed when it is
}

func (c *cuts) wait() <-chan struct{} {
	c.Lock()
	defer c.Unlock()
	if c.next == nil {
		c.next = make(chan struct{})
	}
	return c.next
}

func (c *cuts) happened() {
	c.Lock()
	defer c.Unlock()
	if c.next != nil {
		close(c.next)
		c.next = nil
	}
}

// untilCut is a context that ends when the connection to the engine is cut.
func (p *Porter) untilCut(ctx context.Context) (context.Context, context.CancelFunc) {
	ctx, cancel := context.WithCancel(ctx)
	cut := p.cuts.wait()
	go func() {
		select {
		case <-cut:
			cancel()
		case <-ctx.Done():
		}
	}()
	return ctx, cancel
}

// here says now and then that the porter is there.
func (p *Porter) here(ctx context.Context) {
	name := "?"
	if u, err := user.Current(); err == nil {
		name = u.Username
	}
	told := ""
	for {
		b, err := json.Marshal(
			errand.Said{Version: p.version, Began: p.began, Cores: runtime.NumCPU(), Jobs: p.jobs.count(), User: name, Peers: p.peers},
		)
		if err == nil {
			var answer *nats.Msg
			answer, err = p.conn.Request(errand.Here(p.id.Porter), b, callIn)
			if err == nil && string(answer.Data) != p.version && told != string(answer.Data) {
				told = string(answer.Data)
				p.log.Warn(
					"the service is of another version: install that one here too, and start the porter again",
					"service",
					told,
					"porter",
					p.version,
				)
			}
		}
		if err != nil && ctx.Err() == nil {
			p.log.Debug("saying that the porter is there", "error", err)
		}
		wait := errand.HereEvery
		if err != nil {
			wait = again
		}
		select {
		case <-ctx.Done():
			return
		case <-time.After(wait):
		}
	}
}

// work takes jobs from the queue until the context ends.
func (p *Porter) work(ctx context.Context) error {
	js, err := jetstream.New(p.conn)
	if err != nil {
		return err
	}
	for ctx.Err() == nil {
		if err := p.take(ctx, js); err != nil && ctx.Err() == nil {
			p.log.Debug("waiting for work", "error", err)
			select {
			case <-ctx.Done():
			case <-time.After(again):
			}
		}
	}
	return nil
}

// take takes jobs as they come, until the queue is lost.
func (p *Porter) take(ctx context.Context, js jetstream.JetStream) error {
	consumer, err := js.Consumer(ctx, errand.Stream, p.id.Porter)
	if err != nil {
		return err
	}
	orders, err := consumer.Messages(jetstream.PullMaxMessages(1))
	if err != nil {
		return err
	}
	defer context.AfterFunc(ctx, orders.Stop)()
	defer orders.Stop()
	for {
		m, err := orders.Next()
		if err != nil {
			return err
		}
		var o errand.Order
		if err := json.Unmarshal(m.Data(), &o); err != nil {
			p.log.Error("an order that cannot be read: the service is of another version", "error", err)
			_ = m.Term() // nobody can read it
			continue
		}
		p.jobs.start(func() { p.do(ctx, o, m) })
	}
}
