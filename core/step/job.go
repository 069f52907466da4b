package step

import (
	"context"
	"time"

	"bagaglio/core/host"
	"bagaglio/core/plan"
	"bagaglio/core/storage"
	"bagaglio/core/storage/volumes"
)

// Job is what a job that runs gives to the work on one of its subjects.
type Job struct {
	// ID names the staging folder of the subject and is unlike that of any other.
	ID      string
	Subject string // "disk1"
	Ends    Ends
	Plan    plan.Plan
	Log     *Log
	// Watch is called from one goroutine at a time.
	Watch func(Progress)
	// Wait, unless it is nil, returns when n more bytes may be read.
	Wait func(ctx context.Context, n int64) error
	// Every is the least time between two checkpoints.
	Every time.Duration
	// Hold is for how long what is replaced is kept.
	Hold time.Duration
	// Known, unless it is nil, finds out anew what the plan was made with: it is asked at the moment before something that cannot be taken
	// back.
	Known func(ctx context.Context) (Known, error)
	// By says who runs it, for what is kept: "job 12".
	By string
	// Asks tells that somebody can be asked.
	Asks bool
	// Answer is what a person answered to the question that the job asked last, empty where none was asked or answered.
	Answer Answer
}

// Ends are the folders that the places of a subject lie in. Destination is nil where there is none.
type Ends struct {
	Source, Destination storage.Folder
	// Definitions are the folders with definitions of machines that are to follow a disk which moves, by their pools.
	Definitions map[string]storage.Folder
	// Pools are the folders of the disks of a package, by their pools.
	Pools map[string]storage.Folder
	// Against is the folder of a disk that the source is compared with, nil where there is none.
	Against storage.Folder
	// Scratch is a folder of this computer for what is made on the way.
	Scratch string
	// Saved is a folder of this computer for what the first and last MiB of a disk held that is written over. It stays.
	Saved string
	// Lender serves disks to the host To, nil where that is not needed.
	Lender Lender
	// From and To are the hosts of a machine; nil for a disk.
	From, To Guests
}

// Guests is a host that runs machines, as the steps of a machine need it. What its kind does not do fails with errors.ErrUnsupported.
type Guests interface {
	host.Host
	host.Power
	host.Screener
	host.Observer
	host.Suspender
	host.Listener
	host.Waker
	host.Asker
	host.Looker
	host.Definer
	host.Attacher
	host.Snapshotter
	host.Adopter
	host.Layerer
	host.Borrower
	host.Saver
}

// Lender serves disks to the host that a machine goes to, for one that is started there before its disks are.
type Lender interface {
	// Lend serves them under an ID until they are given back, also after the process was started anew, at the same places. It may be called again.
	Lend(ctx context.Context, id, machine string, disks []Loan) (map[string]host.Export, error)
	// Return ends that. What is not lent is no error.
	Return(ctx context.Context, id string) error
}

// Loan is a disk that is served for a slot of a machine.
type Loan struct {
	Slot   string     `json:"slot"`
	At     plan.Place `json:"at"`
	Format string     `json:"format"`
}

// Known is what whoever asks for a plan knows of the places. The zero value knows nothing.
type Known struct {
	Knowledge plan.Knowledge
	Speeds    map[string]float64 // that steps were last seen to reach, in bytes a second
	Rules     plan.Rules         // of the destination's pool
	Facts     *storage.Facts     // of the destination's pool, nil when it was not tried out
	// Standing returns the disks in the source's pool that stand on one of the files. Nil looks in the folder of the source only.
	Standing func(ctx context.Context, files []string) ([]string, error)
	// StandingThere does likewise in the destination's pool. Nil looks in the folder of the destination only.
	StandingThere func(ctx context.Context, files []string) ([]string, error)
	// Users returns the machines that use one of the files in the source's pool. Nil knows none.
	Users func(ctx context.Context, files []string) ([]plan.User, error)
	// Neighbours are the machines whose definitions lie in the folder of the destination.
	Neighbours []string
	// SourceHost and Host are the hosts of the two pools.
	SourceHost, Host string
	// SourceRoot is where the source's pool lies on its host, and Root where the destination's does, when it is on the same host.
	SourceRoot, Root volumes.Ground
}
