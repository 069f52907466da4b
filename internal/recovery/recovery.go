// Package recovery keeps a copy of what a service knows in an engine elsewhere, so that another service takes over when its computer is lost: snapshots of the records, and what
// changed since, encrypted for a key that the service does not have. One service at a time holds the records.
package recovery

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"time"

	"filippo.io/age"
	"github.com/nats-io/nats.go"
	"github.com/nats-io/nats.go/jetstream"
)

const (
	recordsFile = "records.sqlite"
	// memberFile is who a service is to the engine.
	memberFile = "member.json"
	// stream is where frames lie, and bucket who holds the records.
	stream, bucket, holderKey = "BAGAGLIO_RECORDS", "BAGAGLIO_HOLDER", "holder"
	framesSubject             = "bagaglio.records"
	// leaseFor is for how long a service holds the records after it was heard, renewEvery how often it makes itself heard, and margin how much longer another one waits.
	leaseFor, renewEvery, margin = 15 * time.Second, 3 * time.Second, 5 * time.Second
	callIn                       = 10 * time.Second
)

// ErrTakenOver is the error for a service whose records another one holds by now.
var ErrTakenOver = errors.New("another service has taken over")

// NewKey makes a recovery key: the secret, which is kept elsewhere, and what a service is given of it.
func NewKey() (secret, recipient string, err error) {
	key, err := age.GenerateX25519Identity()
	if err != nil {
		return "", "", err
	}
	return key.String(), key.Recipient().String(), nil
}

// ReadKey reads a recovery key from a file. Lines that begin with # are remarks.
func ReadKey(file string) (age.Identity, error) {
	f, err := os.Open(file)
	if err != nil {
		return nil, fmt.Errorf("reading the recovery key: %w", err)
	}
	defer f.Close()
	all, err := age.ParseIdentities(f)
	if err != nil || len(all) != 1 {
		return nil, fmt.Errorf("%s is no recovery key: it has one line that begins with AGE-SECRET-KEY-1: %w", file, err)
	}
	return all[0], nil
}

// KnownBy is what a service is given of a key, empty for one of another kind.
func KnownBy(key age.Identity) string {
	own, ok := key.(*age.X25519Identity)
	if !ok {
		return ""
	}
	return own.Recipient().String()
}

// Place is an engine that records are kept in.
type Place struct {
	conn *nats.Conn
	js   jetstream.JetStream
	kv   jetstream.KeyValue
}

// Connect connects to an engine, with credentials from a file unless that is empty. Each thing is kept so many times there, on computers of their own.
func Connect(ctx context.Context, url, credentials string, copies int) (*Place, error) {
	p, err := dial(url, credentials)
	if err != nil {
		return nil, err
	}
	ctx, cancel := context.WithTimeout(ctx, 3*callIn)
	defer cancel()
	p.kv, err = p.js.CreateOrUpdateKeyValue(ctx, jetstream.KeyValueConfig{Bucket: bucket, Replicas: copies, History: 1})
	if err == nil {
		_, err = p.js.CreateOrUpdateStream(ctx, jetstream.StreamConfig{Name: stream, Subjects: []string{framesSubject}, Replicas: copies})
	}
	if err != nil {
		p.Close()
		return nil, fmt.Errorf("preparing the engine at %s, which needs JetStream: %w", url, err)
	}
	return p, nil
}

// Look connects to an engine that has records already, and changes nothing there.
func Look(ctx context.Context, url, credentials string) (*Place, error) {
	p, err := dial(url, credentials)
	if err != nil {
		return nil, err
	}
	ctx, cancel := context.WithTimeout(ctx, callIn)
	defer cancel()
	if p.kv, err = p.js.KeyValue(ctx, bucket); err != nil {
		p.Close()
		return nil, fmt.Errorf("the engine at %s has no records of a service: %w", url, err)
	}
	return p, nil
}

func dial(url, credentials string) (*Place, error) {
	o := []nats.Option{nats.Name("bagaglio"), nats.MaxReconnects(-1), nats.ReconnectWait(time.Second), nats.Timeout(callIn)}
	if credentials != "" {
		o = append(o, nats.UserCredentials(credentials))
	}
	conn, err := nats.Connect(url, o...)
	if err != nil {
		return nil, fmt.Errorf("connecting to the engine at %s: %w", url, err)
	}
	js, err := jetstream.New(conn)
	if err != nil {
		conn.Close()
		return nil, err
	}
	return &Place{conn: conn, js: js}, nil
}

// Close ends the connection.
func (p *Place) Close() { p.conn.Close() }

// Holder is who holds the records.
type Holder struct {
	Term int64     `json:"term"` // how many services have held them, one behind the other
	ID   string    `json:"id"`
	Run  string    `json:"run"`  // of the service, another one each time it is started; empty when it has let go of them
	Name string    `json:"name"` // of its computer
	At   time.Time `json:"at"`   // by its own clock
}

// holder returns who holds the records, and the revision of that; 0 for nobody.
func (p *Place) holder(ctx context.Context) (h Holder, revision uint64, err error) {
	ctx, cancel := context.WithTimeout(ctx, callIn)
	defer cancel()
	e, err := p.kv.Get(ctx, holderKey)
	if errors.Is(err, jetstream.ErrKeyNotFound) {
		return h, 0, nil
	}
	if err != nil {
		return h, 0, fmt.Errorf("asking the engine who holds the records: %w", err)
	}
	return h, e.Revision(), json.Unmarshal(e.Value(), &h)
}

// put says who holds the records, unless somebody else did so since a revision.
func (p *Place) put(ctx context.Context, h Holder, since uint64) (revision uint64, err error) {
	ctx, cancel := context.WithTimeout(ctx, callIn)
	defer cancel()
	b, err := json.Marshal(h)
	if err != nil {
		return 0, err
	}
	if since == 0 {
		revision, err = p.kv.Create(ctx, holderKey, b)
	} else {
		revision, err = p.kv.Update(ctx, holderKey, b, since)
	}
	var api *jetstream.APIError
	if errors.Is(err, jetstream.ErrKeyExists) || errors.As(err, &api) && api.ErrorCode == jetstream.JSErrCodeStreamWrongLastSequence {
		err = ErrTakenOver
	}
	return revision, err
}

// member is who a service is to the engine, as its state folder says.
type member struct {
	ID   string `json:"id"`
	Term int64  `json:"term"`
}

func readMember(state string) (m member, err error) {
	b, err := os.ReadFile(filepath.Join(state, memberFile))
	if errors.Is(err, fs.ErrNotExist) {
		return m, nil
	}
	if err == nil {
		err = json.Unmarshal(b, &m)
	}
	return m, err
}

// isOld fails for records that another service has taken over.
func isOld(h Holder, state string) error {
	return fmt.Errorf(
		"%w: %s has held the records since %s (it is the %d. to do so), and those in %s are older: to run here again, stop that one, and take over with the recovery key and an empty state folder",
		ErrTakenOver,
		h.Name,
		h.At.Local().Format("2006-01-02 15:04:05"),
		h.Term,
		state,
	)
}

// small are the files of a state folder that go along with the records: keys, certificates, what was proven last.
func small(state string) (map[string][]byte, error) {
	all := map[string][]byte{}
	err := filepath.WalkDir(state, func(at string, e fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		name, err := filepath.Rel(state, at)
		if err != nil {
			return err
		}
		switch {
		case e.IsDir() && (name == "scratch" || name == "saved" || name == "uploads" || name == filepath.Join("porters", "engine")):
			return fs.SkipDir
		case !e.Type().IsRegular(), strings.HasPrefix(name, recordsFile), name == "lock", name == memberFile, name == copyFile:
			return nil
		}
		info, err := e.Info()
		if err != nil || info.Size() > mostSmall {
			return err
		}
		all[name], err = os.ReadFile(at)
		return err
	})
	return all, err
}

const (
	mostSmall = 1 << 20
	copyFile  = "recovery.copy"
)

// Options say how records are kept elsewhere.
type Options struct {
	State string
	To    string        // what the recovery key is known by
	Every time.Duration // the least time between two frames
	Log   *slog.Logger
}
