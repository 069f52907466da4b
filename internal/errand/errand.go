// Package errand is what the service and a porter tell each other about a job that the porter does: over the engine, in JSON. The records of the job stay with the service.
package errand

import (
	"errors"
	"fmt"
	"iter"
	"strconv"
	"strings"
	"time"

	"bagaglio/core/host"
	"bagaglio/core/plan"
	"bagaglio/core/receipt"
	"bagaglio/core/step"
	"bagaglio/core/storage"
	"bagaglio/core/storage/volumes"
	"bagaglio/internal/store"
)

const (
	// LeaseFor is for how long a porter may go on with a job after it was last heard, and RenewEvery how often it makes itself heard.
	LeaseFor, RenewEvery = 20 * time.Second, 4 * time.Second
	// Margin is how much longer the service waits than a porter may go on, for the last write to end and for clocks that do not run alike.
	Margin = 5 * time.Second
	// HereEvery is how often a porter says that it is there.
	HereEvery = 10 * time.Second
	// Stream is the queue of work.
	Stream = "WORK"
)

// Here is where a porter says that it is there. Subjects of a porter have its name as their second part, so that it can be kept to its own.
func Here(name string) string { return "here." + name }

// Work is where the jobs of a porter wait.
func Work(name string) string { return "work." + name }

// Stop is where a porter is told to stop.
func Stop(name string) string { return "stop." + name }

// Grant is where a porter is told which other one may read a folder of its own.
func Grant(name string) string { return "grant." + name }

// Reach is where a porter is asked whether it reaches another one.
func Reach(name string) string { return "reach." + name }

// Call is where a porter asks about a job.
func Call(name string, job, epoch int64, what string) string {
	return fmt.Sprintf("errand.%s.%d.%d.%s", name, job, epoch, what)
}

// AllCalls are those of all porters.
const AllCalls = "errand.>"

// Inbox is what the answers to a porter are sent below.
func Inbox(name string) string { return "_INBOX." + name }

// PorterOf is the porter that a subject is one of.
func PorterOf(subject string) string {
	_, rest, _ := strings.Cut(subject, ".")
	name, _, _ := strings.Cut(rest, ".")
	return name
}

// Called is which job a call is about.
type Called struct {
	Porter     string
	Job, Epoch int64
}

// Parse takes the subject of a call apart.
func Parse(subject string) (c Called, what string, err error) {
	parts := strings.Split(subject, ".")
	if len(parts) != 5 {
		return c, "", fmt.Errorf("%q is no call about a job", subject)
	}
	job, errJob := strconv.ParseInt(parts[2], 10, 64)
	epoch, errEpoch := strconv.ParseInt(parts[3], 10, 64)
	return Called{parts[1], job, epoch}, parts[4], errors.Join(errJob, errEpoch)
}

// What is asked about a job.
const (
	Load          = "load"     // its journal
	Keep          = "keep"     // a journal, and a mark
	Marks         = "marks"    // those of a step, from one on
	Forget        = "forget"   // those of a subject
	Known         = "known"    // what the plan was made with
	Standing      = "standing" // what stands on files of the source's pool
	StandingThere = "standing-there"
	Users         = "users"  // which machines use files
	InUse         = "in-use" // what uses a file
	Wait          = "wait"   // until so many bytes may be read
	Guests        = "guests" // something is done with its machine
	Watch         = "watch"  // how far it is
	Begin         = "begin"  // it begins with an order, maybe not for the first time
	Renew         = "renew"  // the lease
	Done          = "done"   // how it ended
)

// Said is what a porter says of itself.
type Said struct {
	Version string    `json:"version"`
	Began   time.Time `json:"began"`
	Cores   int       `json:"cores"`
	Jobs    int       `json:"jobs"`            // that it does now
	User    string    `json:"user"`            // that it runs as
	Peers   string    `json:"peers,omitempty"` // address at which other porters read from it, empty for none
}

// Granted lets another porter read a folder for some time, or has what it says carried to an address.
type Granted struct {
	Peer, Folder string
	Used         bool   `json:",omitempty"` // also files that are written to: the service knows what of them stands still
	Carry        string `json:",omitempty"` // address of a third porter
	For          time.Duration
}

// Peer is another porter, where it is read from, and how fast.
type Peer struct {
	Porter, Address string
	Via, ViaAddress string  `json:",omitempty"` // a third porter that carries, and where it is reached; empty where nobody has to
	Speed           float64 `json:",omitempty"` // in bytes a second, 0 where that was not measured
}

// Order is a job for a porter.
type Order struct {
	Job, Epoch  int64
	ID          string // of the task: what it stages goes by that
	Plan        plan.Plan
	Ends        map[string]Ends // by subjects
	Pools       map[string]Lies // those whose disks move while their machine runs
	Every, Hold time.Duration
	By          string
	Asks        bool
	Answer      step.Answer
	Kept        bool // it has records
	Paced       bool // it is asked how much may be read
}

// Lies is where a folder lies: on the porter's computer, or at another porter.
type Lies struct {
	Folder string
	From   *Peer // nil where it is the porter's own
}

// Read are the folders that an order reads at other porters, and whether with files that are written to.
func (o Order) Read() iter.Seq2[Lies, bool] {
	return func(yield func(Lies, bool) bool) {
		for _, e := range o.Ends {
			if e.From != nil && !yield(Lies{e.Source, e.From}, false) {
				return
			}
		}
		for _, l := range o.Pools {
			if l.From != nil && !yield(l, true) {
				return
			}
		}
	}
}

// Ends are the folders of a subject on the porter's computer, empty where there is none.
type Ends struct {
	Source, Destination string
	From                *Peer // that the source lies at, nil where that is the porter's own
}

// Stopped tells a porter to stop a job.
type Stopped struct {
	Job, Epoch int64
	SetAside   bool // it is to go on later
}

// Number is which change of a job it is: what is sent twice, since nobody answered, is done once. A porter that was started again begins with the same order anew, at 1: what it
// had sent before counts for nothing then.
type Number struct {
	Turn int64 // which time it is that a porter has begun with the order, as the service says
	N    int64 // from 1 on
}

// Begun is what the service answers to a porter that begins with an order.
type Begun struct{ Turn int64 }

// Kept is what a porter has kept.
type Kept struct {
	Number  Number
	Journal step.Journal
	Mark    *step.Mark
	Subject string // of what is forgotten
}

// Facts are what the plan was made with, but for what is asked when it is needed.
type Facts struct {
	Knowledge              plan.Knowledge
	Speeds                 map[string]float64
	Rules                  plan.Rules
	Facts                  *storage.Facts
	Neighbours             []string
	SourceHost, Host       string
	SourceRoot, Root       volumes.Ground
	Standing, There, Users bool // can be asked
}

// FactsOf are those that can be sent.
func FactsOf(k step.Known) Facts {
	return Facts{
		k.Knowledge, k.Speeds, k.Rules, k.Facts, k.Neighbours, k.SourceHost, k.Host, k.SourceRoot, k.Root,
		k.Standing != nil, k.StandingThere != nil, k.Users != nil,
	}
}

// Asked is a question about a subject.
type Asked struct {
	Subject string
	Step    string
	From    int  // the number of a mark
	There   bool // it is about the destination, not about the source
	Files   []string
	Bytes   int64
}

// Answer is what the service answers.
type Answer[T any] struct {
	Value   T
	Problem *Problem
}

// Ended is how a job ended at a porter.
type Ended struct {
	Receipt receipt.Receipt
	Problem *Problem
}

// Problem is an error on its way.
type Problem struct {
	Text     string
	Question *step.Question
	Blocked  *plan.Check
	Lost     bool   // it may be right again later
	Outdated bool   // somebody else has the job
	SetAside bool   // it is to go on later
	Kind     string `json:",omitempty"` // of an error about files
}

// ProblemOf is an error as it is sent, nil for none.
func ProblemOf(err error) *Problem {
	if err == nil {
		return nil
	}
	p := &Problem{
		Text:     err.Error(),
		Lost:     step.CanWait(err),
		Outdated: errors.Is(err, store.ErrOutdated),
		SetAside: errors.Is(err, step.ErrSetAside),
		Kind:     kindOf(err),
	}
	if q, ok := step.Asked(err); ok {
		p.Question = &q
	}
	var blocked *step.BlockedError
	if errors.As(err, &blocked) {
		p.Blocked = &blocked.Check
	}
	return p
}

// Error makes it an error again that is of the same kinds.
func (p *Problem) Error() error {
	if p == nil {
		return nil
	}
	said := &saidError{text: p.Text}
	switch {
	case p.Question != nil:
		said.is = &step.AskedError{Question: *p.Question, Err: errors.New(p.Text)}
	case p.Blocked != nil:
		said.is = &step.BlockedError{Check: *p.Blocked}
	case p.Outdated:
		said.is = store.ErrOutdated
	case p.Kind == kindOf(host.ErrGone):
		said.is = host.ErrGone
	case p.Lost, p.SetAside:
		said.is = storage.ErrLost
	default:
		said.is = kindNamed(p.Kind)
	}
	return said
}

// saidError is an error that was told in words.
type saidError struct {
	text string
	is   error // what kind it is of, nil for none
}

func (e *saidError) Error() string { return e.text }

func (e *saidError) Unwrap() error { return e.is }
