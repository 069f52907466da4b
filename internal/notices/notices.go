// Package notices tells people and programs what happens: by signed calls to a web server, by mail, or by a program.
package notices

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"iter"
	"log/slog"
	"net/url"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"bagaglio/internal/attention"
	"bagaglio/internal/queue"
	"bagaglio/internal/records"
	"bagaglio/internal/store"
	"bagaglio/internal/vault"

	"github.com/google/uuid"
)

// Done is the kind of what is told of a job that did what it was to; the others are those of needs.
const Done = "done"

// Kinds are all that may be told.
var Kinds = []string{
	string(attention.Question),
	string(attention.Consent),
	string(attention.Stopped),
	string(attention.Blocked),
	string(attention.Failed),
	string(attention.Doubt),
	string(attention.Away),
	string(attention.Full),
	string(attention.Drive),
	Done,
}

// The ways to tell.
const (
	Web     = "web"
	Mail    = "mail"
	Program = "program"
)

// Programs is the folder with the programs that may be run. Whoever can write there decides what they are; it is not part of the API.
const Programs = "/etc/bagaglio/notices"

const (
	tellEvery  = 2 * time.Second
	lookEvery  = 10 * time.Second // for what nobody tells of: pools, routines
	forgetting = 5 * time.Minute  // after which what is not so any more may be told anew
	firstAgain = 10 * time.Second
	lastAgain  = time.Hour
	givesUp    = 24 * time.Hour
	keptFor    = 30 * 24 * time.Hour
	told       = 24 * time.Hour // for how long it is looked for jobs that did what they were to
	sendWithin = 30 * time.Second
)

// Target says where a channel leads to. What does not belong to its kind is empty.
type Target struct {
	URL     string   `json:"url,omitempty"`     // web
	Server  string   `json:"server,omitempty"`  // mail: HOST:PORT
	From    string   `json:"from,omitempty"`    // mail
	To      []string `json:"to,omitempty"`      // mail
	User    string   `json:"user,omitempty"`    // mail: who logs in, empty for nobody
	Clear   bool     `json:"clear,omitempty"`   // mail: also where the server does not encrypt
	Program string   `json:"program,omitempty"` // program: its name in Programs
}

// Channel is somebody, or a program, that is told what happens.
type Channel struct {
	Name    string
	Kind    string
	Target  Target
	Tells   []string
	Created time.Time
}

// State is how a channel does.
type State struct {
	Channel

	Waiting int        // messages that could not be told yet
	Last    *time.Time // when the newest message was made
	Problem string     // of its last try, empty for none
}

// Message is what is told.
type Message struct {
	ID      string    `json:"id"`
	Kind    string    `json:"kind"`
	Text    string    `json:"text"`
	Job     int64     `json:"job,omitempty"`
	Pool    string    `json:"pool,omitempty"`
	Routine string    `json:"routine,omitempty"`
	Consent string    `json:"consent,omitempty"` // the ID of the one that is waited for
	At      time.Time `json:"at"`
	Service string    `json:"service"` // the name of its computer
}

// Notices tells what happens, until it is closed.
type Notices struct {
	records *records.Records
	pools   attention.Pools
	vault   *vault.Vault
	log     *slog.Logger
	service string
	stop    context.CancelFunc
	all     sync.WaitGroup

	changed atomic.Bool // the state of a job
}

// Jobs tells of those of the service as they change.
type Jobs interface {
	Follow(ctx context.Context, job string) (iter.Seq[queue.Job], error)
}

// Open begins to tell what happens. The caller closes it.
func Open(r *records.Records, jobs Jobs, pools attention.Pools, v *vault.Vault, log *slog.Logger) (*Notices, error) {
	ctx, stop := context.WithCancel(context.Background())
	service, _ := os.Hostname() // then it has no name
	n := &Notices{records: r, pools: pools, vault: v, log: log, service: service, stop: stop}
	news, err := jobs.Follow(ctx, "")
	if err != nil {
		stop()
		return nil, err
	}
	n.all.Go(func() {
		states := map[int64]store.State{}
		for j := range news {
			if states[j.ID] != j.State {
				n.changed.Store(true)
			}
			if states[j.ID] = j.State; j.State.Ended() {
				delete(states, j.ID)
			}
		}
	})
	n.all.Go(func() { n.tend(ctx) })
	return n, nil
}

// tend looks when a job has changed, and now and then, and tells what is due.
func (n *Notices) tend(ctx context.Context) {
	tick := time.NewTicker(tellEvery)
	defer tick.Stop()
	var looked time.Time
	for {
		select {
		case <-ctx.Done():
			return
		case now := <-tick.C:
			look := n.changed.Swap(false) || now.Sub(looked) > lookEvery
			if look {
				looked = now
			}
			if err := n.look(ctx, now, look); err != nil && ctx.Err() == nil {
				n.log.Error("telling what happens", "error", err)
			}
		}
	}
}

// Close tells nothing any more; what was not told is the next time.
func (n *Notices) Close() {
	n.stop()
	n.all.Wait()
}

var goodName = regexp.MustCompile(`^[a-z0-9][a-z0-9-]{0,62}$`)

// Add makes a channel. For one to a web server it returns the secret that its messages are signed with, which is told this once; password is
// what is logged in to a mail server with.
func (n *Notices) Add(ctx context.Context, c Channel, password string) (Channel, string, error) {
	if !goodName.MatchString(c.Name) {
		return c, "", fmt.Errorf("%w: the name %q may have small letters, digits and hyphens only, at most 63", records.ErrInvalid, c.Name)
	}
	if len(c.Tells) == 0 {
		c.Tells = slices.DeleteFunc(slices.Clone(Kinds), func(kind string) bool { return kind == Done })
	}
	for _, kind := range c.Tells {
		if !slices.Contains(Kinds, kind) {
			return c, "", fmt.Errorf("%w: what is told is of %v, and not %q", records.ErrInvalid, Kinds, kind)
		}
	}
	if err := c.check(); err != nil {
		return c, "", fmt.Errorf("%w: %w", records.ErrInvalid, err)
	}
	secret, shown := password, ""
	if c.Kind == Web {
		secret = newSecret()
		shown = secret
	}
	target, err := json.Marshal(c.Target)
	if err != nil {
		return c, "", err
	}
	tells, err := json.Marshal(c.Tells)
	if err != nil {
		return c, "", err
	}
	c.Created = time.Now()
	return c, shown, n.records.AddChannel(ctx, store.Channel{
		Name: c.Name, Kind: c.Kind, Target: string(target), Tells: string(tells), Secret: n.vault.Lock(vaultName(c.Name), []byte(secret)),
		Created: c.Created.UTC().Format(time.RFC3339Nano),
	})
}

// vaultName is what the secret of a channel belongs to. No host has such a name.
func vaultName(channel string) string { return "channel " + channel }

// check fails for a target that is none of its kind.
func (c Channel) check() error {
	t := c.Target
	switch c.Kind {
	case Web:
		u, err := url.Parse(t.URL)
		if err != nil || u.Host == "" || u.Scheme != "https" && u.Scheme != "http" {
			return fmt.Errorf("%q is no address of a web server: write it like https://example.net/bagaglio", t.URL)
		}
	case Mail:
		if t.Server == "" || t.From == "" || len(t.To) == 0 {
			return errors.New("mail takes a server (HOST:PORT), who it is from, and who it is to")
		}
		_, err := t.mail(Message{})
		return err
	case Program:
		if t.Program == "" || filepath.Base(t.Program) != t.Program || t.Program[0] == '.' {
			return fmt.Errorf("%q is no name of a program in %s", t.Program, Programs)
		}
	default:
		return fmt.Errorf("it is told by %s, %s or %s, and not by %q", Web, Mail, Program, c.Kind)
	}
	return nil
}

// Remove tells a channel nothing any more.
func (n *Notices) Remove(ctx context.Context, name string) error {
	return n.records.RemoveChannel(ctx, name)
}

// List returns the channels, and how they do.
func (n *Notices) List(ctx context.Context) (all []State, err error) {
	kept, err := n.records.Channels(ctx)
	if err != nil {
		return nil, err
	}
	for _, k := range kept {
		c, err := channelOf(k)
		if err != nil {
			return nil, err
		}
		s := State{Channel: c}
		last, waiting, err := n.records.LastNotices(ctx, c.Name, 1)
		if err != nil {
			return nil, err
		}
		s.Waiting = waiting
		if len(last) > 0 {
			at, err := time.Parse(time.RFC3339Nano, last[0].Created)
			if err != nil {
				return nil, err
			}
			s.Last, s.Problem = &at, last[0].Problem
		}
		all = append(all, s)
	}
	return all, nil
}

func channelOf(k store.Channel) (c Channel, err error) {
	c = Channel{Name: k.Name, Kind: k.Kind}
	if err := json.Unmarshal([]byte(k.Target), &c.Target); err != nil {
		return c, err
	}
	if err := json.Unmarshal([]byte(k.Tells), &c.Tells); err != nil {
		return c, err
	}
	c.Created, err = time.Parse(time.RFC3339Nano, k.Created)
	return c, err
}

// Try tells a channel that it is tried out, and fails where that cannot be told.
func (n *Notices) Try(ctx context.Context, name string) error {
	all, err := n.records.Channels(ctx)
	if err != nil {
		return err
	}
	i := slices.IndexFunc(all, func(c store.Channel) bool { return c.Name == name })
	if i < 0 {
		return fmt.Errorf("channel %q: %w", name, store.ErrNotFound)
	}
	err = n.send(
		ctx,
		all[i],
		Message{ID: uuid.NewString(), Kind: "trial", Text: "Somebody tries out whether this arrives.", At: time.Now(), Service: n.service},
	)
	if err != nil {
		return fmt.Errorf("%w: it is not accepted: %w", records.ErrState, err)
	}
	return nil
}
