// Package line tests and measures work over lines that are slow, long, lossy, or cut.
package line

import (
	"io"
	"net"
	"sync"
	"time"
)

// relay stands between a client and a server: it lets so many bytes a second through each way, each of them after a delay.
type relay struct {
	listener net.Listener
	to       string
	rate     float64 // bytes a second
	delay    time.Duration
}

// newRelay listens on loopback and passes on to an address.
func newRelay(to string, rate float64, delay time.Duration) (*relay, error) {
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	r := &relay{listener, to, rate, delay}
	go r.serve()
	return r, nil
}

func (r *relay) serve() {
	for {
		in, err := r.listener.Accept()
		if err != nil {
			return
		}
		out, err := net.Dial("tcp", r.to)
		if err != nil {
			_ = in.Close()
			continue
		}
		var both sync.WaitGroup
		both.Go(func() { r.pass(out, in) })
		both.Go(func() { r.pass(in, out) })
		go func() {
			both.Wait()
			_, _ = in.Close(), out.Close()
		}()
	}
}

// parcel is what came in at once.
type parcel struct {
	data []byte
	due  time.Time
}

// pass carries one way. What is on its way is bounded, as it is in a router.
func (r *relay) pass(to, from net.Conn) {
	way := make(chan parcel, 4096)
	go func() {
		defer close(way)
		for {
			p := make([]byte, 32<<10)
			n, err := from.Read(p)
			if n > 0 {
				way <- parcel{p[:n], time.Now().Add(r.delay)}
			}
			if err != nil {
				return
			}
		}
	}()
	free := time.Now() // when the line has carried what was given to it
	for p := range way {
		if free.Before(p.due) {
			free = p.due
		}
		free = free.Add(time.Duration(float64(len(p.data)) / r.rate * float64(time.Second)))
		if wait := time.Until(free); wait > time.Millisecond {
			time.Sleep(wait) // the line is busy
		}
		if _, err := to.Write(p.data); err != nil {
			break
		}
	}
	if c, ok := to.(*net.TCPConn); ok {
		_ = c.CloseWrite()
	}
	_, _ = io.Copy(io.Discard, from)
}
