// Package line tests and measures work over lines that are slow, long, lossy, or cut.
package line

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"bagaglio/internal/testkit/sshd"

	"golang.org/x/sys/unix"
)

// link is the line between this computer and an island: every packet of the network goes through it.
type link struct {
	rate  float64       // bytes a second, each way
	delay time.Duration // each way
	loss  float64       // the share of the packets that is lost
	mtu   int           // the length of the largest packet

	number int // of several: each has a network of its own

	lost    atomic.Int64 // packets, so far
	carried atomic.Int64 // bytes, both ways together
}

// Names of a computer of its own behind the line, and of the ends of it, with their addresses.
func (l *link) island() string      { return fmt.Sprint("bagaglio-test-", l.number) }
func (l *link) near() string        { return fmt.Sprint("bagaglio-near-", l.number) }
func (l *link) far() string         { return fmt.Sprint("bagaglio-far-", l.number) }
func (l *link) nearAddress() string { return fmt.Sprintf("10.227.%d.1", 3+l.number) }
func (l *link) farAddress() string  { return fmt.Sprintf("10.227.%d.2", 3+l.number) }

// inside are the words that run a command on the computer behind the line.
func (l *link) inside() []string { return []string{"ip", "netns", "exec", l.island()} }

// lay sets up a line, and has the computer behind it offer SSH.
func lay(t *testing.T, l *link) *sshd.Server {
	t.Helper()
	l.lay(t)
	server := sshd.StartOn(t, l.farAddress())
	server.Run(l.inside()...)
	return server
}

// lay sets up the line with a computer of its own behind it, and skips the test where that cannot be.
func (l *link) lay(t *testing.T) {
	t.Helper()
	island, near, far := l.island(), l.near(), l.far()
	if os.Getuid() != 0 {
		t.Skip("setting up a network takes root")
	}
	_ = exec.Command("ip", "netns", "del", island).Run() // of a test that was killed
	run(t, "ip netns add "+island)
	t.Cleanup(func() { _ = exec.Command("ip", "netns", "del", island).Run() })
	a, b := tunnel(t, near), tunnel(t, far)
	run(t, "ip link set "+far+" netns "+island)
	for _, c := range []string{"ip addr add " + l.nearAddress() + "/24 dev " + near, "ip link set " + near + " mtu " + fmt.Sprint(l.mtu) + " up"} {
		run(t, c)
	}
	for _, c := range []string{"addr add " + l.farAddress() + "/24 dev " + far, "link set " + far + " mtu " + fmt.Sprint(l.mtu) + " up", "link set lo up"} {
		run(t, "ip netns exec "+island+" ip "+c)
	}
	go l.carry(a, b)
	go l.carry(b, a)
}

// run runs a command that sets up the network, or skips the test where this computer cannot do that.
func run(t *testing.T, command string) {
	t.Helper()
	words := strings.Fields(command)
	if out, err := exec.Command(words[0], words[1:]...).CombinedOutput(); err != nil {
		t.Skipf("a network of our own cannot be set up here (%s): %s", command, out)
	}
}

// tunnel makes a network device whose packets are read and written here (Linux, Documentation/networking/tuntap.rst).
func tunnel(t *testing.T, name string) *os.File {
	t.Helper()
	fd, err := unix.Open("/dev/net/tun", unix.O_RDWR|unix.O_NONBLOCK|unix.O_CLOEXEC, 0)
	if err != nil {
		t.Skipf("a network of our own cannot be set up here: opening /dev/net/tun: %v", err)
	}
	request, err := unix.NewIfreq(name)
	if err == nil {
		request.SetUint16(unix.IFF_TUN | unix.IFF_NO_PI)
		err = unix.IoctlIfreq(fd, unix.TUNSETIFF, request)
	}
	if err != nil {
		_ = unix.Close(fd)
		t.Skipf("a network of our own cannot be set up here: making %s: %v", name, err)
	}
	file := os.NewFile(uintptr(fd), name)
	t.Cleanup(func() { _ = file.Close() })
	return file
}

// packet is one on its way.
type packet struct {
	data []byte
	due  time.Time
}

// carry carries one way, until an end is closed. What waits is bounded, as it is in a router; what does not fit is lost there too.
func (l *link) carry(from, to *os.File) {
	way := make(chan packet, 4096)
	spare := make(chan []byte, cap(way)) // packets are large, and clearing them takes a good part of a processor
	go func() {
		defer close(way)
		chance := rand.New(rand.NewPCG(1, 2))
		for {
			var p []byte
			select {
			case p = <-spare:
				p = p[:l.mtu]
			default:
				p = make([]byte, l.mtu)
			}
			n, err := from.Read(p)
			switch {
			case errors.Is(err, os.ErrClosed):
				return
			case err != nil: // the device is down
				time.Sleep(10 * time.Millisecond)
			case chance.Float64() < l.loss:
				l.lost.Add(1)
			default:
				select {
				case way <- packet{p[:n], time.Now().Add(l.delay)}:
				default:
					l.lost.Add(1)
				}
			}
		}
	}()
	free := time.Now() // when the line has carried what was given to it
	for p := range way {
		if free.Before(p.due) {
			free = p.due
		}
		free = free.Add(time.Duration(float64(len(p.data)) / l.rate * float64(time.Second)))
		if wait := time.Until(free); wait > time.Millisecond {
			time.Sleep(wait) // the line is busy
		}
		l.carried.Add(int64(len(p.data)))
		_, _ = to.Write(p.data) // a device that is down takes nothing
		select {
		case spare <- p.data:
		default:
		}
	}
}
