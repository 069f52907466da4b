package all

import (
	"bytes"
	"context"
	"image/png"
	"net"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"bagaglio/core/host"
	"bagaglio/core/machine"
	_ "bagaglio/core/machine/all"
	"bagaglio/internal/standin"
	"bagaglio/internal/testkit/daemon"
	"bagaglio/internal/testkit/standins"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// world is a host of a kind, and how a machine is made for it.
type world struct {
	host.Host
	folder  string                                 // that disks lie in
	define  func(name, file, format string) []byte // a machine with one disk
	says    string                                 // what a guest writes on its serial port
	pools   []host.Pool
	killed  func() // as by a crash
	address host.Address
}

// worlds are one for each kind of host.
var worlds = map[string]func(*testing.T) world{
	"standin": func(t *testing.T) world {
		return standinOf(t, standins.Start(t, t.TempDir(), standin.Traits{Deaf: true}))
	},
	"libvirt": func(t *testing.T) world {
		d := daemon.Start(t)
		d.StoragePool(t, "isola")
		return world{
			Host:   open(t, "libvirt", host.Address{Socket: d.Socket, Dial: daemon.Dial}),
			folder: d.Dir,
			define: func(name, file, format string) []byte {
				return []byte(strings.Replace(daemon.Definition(name, file), "type='raw'", "type='"+format+"'", 1))
			},
			says:    "The tides are up.",
			pools:   []host.Pool{{Name: "isola", Folder: d.Dir}},
			killed:  d.Kill,
			address: host.Address{Socket: d.Socket, Dial: daemon.Dial},
		}
	},
}

func standinOf(t *testing.T, s *standins.Host) world {
	t.Helper()
	at := host.Address{URL: s.URL}
	return world{
		Host:   open(t, "standin", at),
		folder: s.Folder,
		define: func(name, file, format string) []byte {
			return []byte(standins.Definition(name, uuid.NewSHA1(uuid.Nil, []byte(name)).String(), file, format))
		},
		says:    "crew-roster is up.",
		pools:   []host.Pool{{Name: "disks", Folder: s.Folder}},
		killed:  s.Kill,
		address: at,
	}
}

func open(t *testing.T, kind string, a host.Address) host.Host {
	t.Helper()
	k, err := host.Lookup(kind)
	require.NoError(t, err)
	require.NoError(t, k.Check(a))
	h, err := k.Open(t.Context(), a)
	require.NoError(t, err)
	t.Cleanup(func() { _ = h.Close() }) // it may be gone
	return h
}

// writes waits until the guest of a machine has written some more sectors.
func (w world) writes(t *testing.T, m host.Machine) {
	t.Helper()
	begun, err := w.Host.(host.Observer).Signs(t.Context(), m)
	require.NoError(t, err)
	require.Eventually(t, func() bool {
		now, err := w.Host.(host.Observer).Signs(t.Context(), m)
		return err == nil && now.Written >= begun.Written+20*512
	}, time.Minute, 10*time.Millisecond)
}

// TestEveryKindOfHost: machines are made known, listed, switched on and off, seen and forgotten; what is so already is no error; and a host
// that is gone is told from one that refuses.
func TestEveryKindOfHost(t *testing.T) {
	for kind, start := range worlds {
		t.Run(kind, func(t *testing.T) {
			w := start(t)
			ctx := t.Context()
			all, err := w.Machines(ctx)
			require.NoError(t, err)
			assert.Empty(t, all)
			_, err = w.Machine(ctx, "ticketing")
			require.ErrorIs(t, err, host.ErrNoMachine)

			made, err := w.Host.(host.Definer).Define(
				ctx,
				w.define("ticketing", image(t, w.folder, "ticketing.raw", "raw", daemon.Boot(false)), "raw"),
			)
			require.NoError(t, err)
			assert.Equal(t, "ticketing", made.Name)
			assert.Equal(t, host.Off, made.State)
			_, err = w.Host.(host.Definer).Define(ctx, []byte("<domain"))
			require.ErrorIs(t, err, host.ErrRefused)
			m, err := machine.Describe(made.Format, made.Definition)
			require.NoError(t, err)
			assert.Equal(t, made.UUID, m.UUID)
			assert.Equal(t, int64(32<<20), m.Memory)
			assert.Equal(t, machine.BIOS, m.Firmware)
			require.Len(t, m.Disks, 1)
			assert.Equal(t, "raw", m.Disks[0].Format)

			power := w.Host.(host.Power)
			require.NoError(t, power.CutOff(ctx, made), "it is off already")
			changes := make(chan struct{}, 100)
			following, stop := context.WithCancel(ctx)
			ended := make(chan error, 1)
			go func() { ended <- w.Host.(host.Follower).Follow(following, func() { changes <- struct{}{} }) }()
			require.Eventually(t, func() bool { // once it is listened to
				require.NoError(t, power.Start(ctx, made))
				require.NoError(t, power.Start(ctx, made), "it runs already")
				select {
				case <-changes:
					return true
				case <-time.After(time.Second):
					require.NoError(t, power.CutOff(ctx, made))
					return false
				}
			}, time.Minute, time.Millisecond, "it tells of changes")
			stop()
			require.NoError(t, <-ended)
			limits, err := w.Host.(host.Limiter).Limits(ctx)
			require.NoError(t, err)
			assert.True(t, machine.Takes(limits.Firmware, machine.BIOS) && machine.Takes(limits.Buses, "ide"), "%+v", limits)
			if waker, ok := w.Host.(host.Waker); ok {
				for _, yes := range []bool{true, false} {
					require.NoError(t, waker.StartWithHost(ctx, made, yes))
					now, err := w.Machine(ctx, "ticketing")
					require.NoError(t, err)
					assert.Equal(t, yes, now.WithHost)
				}
			}
			require.NoError(t, w.Host.(host.Looker).Look(ctx))
			require.ErrorIs(t, w.Host.(host.Definer).Forget(ctx, made), host.ErrRefused, "what runs is not forgotten")
			now, err := w.Machine(ctx, "ticketing")
			require.NoError(t, err)
			assert.Equal(t, host.Running, now.State)
			live, err := machine.Describe(now.Format, now.Live)
			require.NoError(t, err, "what runs is told apart from what is stored")
			require.Len(t, live.Disks, 1)
			assert.Equal(t, m.Disks[0].File, live.Disks[0].File)
			assert.Empty(t, made.Live, "nothing of it ran")
			require.Eventually(t, func() bool {
				picture, err := w.Host.(host.Screener).Screen(ctx, made)
				if err != nil {
					t.Logf("no picture yet: %v", err)
					return false
				}
				shown, err := png.Decode(bytes.NewReader(picture))
				return err == nil && shown.Bounds().Dx() > 100
			}, time.Minute, 200*time.Millisecond, "it shows something")
			require.ErrorIs(t, w.Host.(host.Definer).Forget(ctx, host.Machine{UUID: "nonsense"}), host.ErrNoMachine)
			require.NoError(t, power.ShutDown(ctx, made), "whether its guest listens or not")
			require.NoError(t, power.CutOff(ctx, made))
			now, err = w.Machine(ctx, "ticketing")
			require.NoError(t, err)
			assert.Equal(t, host.Off, now.State)
			_, err = w.Host.(host.Screener).Screen(ctx, made)
			require.Error(t, err)

			require.NoError(t, w.Host.(host.Definer).Forget(ctx, made))
			require.NoError(t, w.Host.(host.Definer).Forget(ctx, made), "it is forgotten already")
			all, err = w.Machines(ctx)
			require.NoError(t, err)
			assert.Empty(t, all)

			w.killed()
			_, err = w.Machines(ctx)
			require.ErrorIs(t, err, host.ErrGone)
		})
	}
}

// TestAHostThatDoesNotSpeak as one should: it is given up, and never waited for without end.
func TestAHostThatDoesNotSpeak(t *testing.T) {
	for name, answer := range map[string][]byte{"nothing": nil, "noise": bytes.Repeat([]byte{0xff}, 64)} {
		t.Run(name, func(t *testing.T) {
			socket := filepath.Join(t.TempDir(), "sock")
			l, err := net.Listen("unix", socket)
			require.NoError(t, err)
			defer l.Close()
			go func() {
				for {
					c, err := l.Accept()
					if err != nil {
						return
					}
					_, _ = c.Write(answer)
				}
			}()
			ctx, cancel := context.WithTimeout(t.Context(), 2*time.Second)
			defer cancel()
			k, err := host.Lookup("libvirt")
			require.NoError(t, err)
			_, err = k.Open(ctx, host.Address{Socket: socket, Dial: daemon.Dial})
			require.Error(t, err)
		})
	}
	k, err := host.Lookup("libvirt")
	require.NoError(t, err)
	_, err = k.Open(t.Context(), host.Address{Socket: filepath.Join(os.TempDir(), "no-such-socket"), Dial: daemon.Dial})
	require.ErrorIs(t, err, host.ErrGone)
	_, err = host.Lookup("nothing")
	require.ErrorContains(t, err, "but by libvirt")
}
