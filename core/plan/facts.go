package plan

import (
	"time"

	"bagaglio/core/adapt"
	"bagaglio/core/disk"
	"bagaglio/core/fit"
	"bagaglio/core/inspect"
	"bagaglio/core/storage"
	"bagaglio/core/storage/volumes"
)

// Facts are what the world looks like when the plan is made.
type Facts struct {
	Target      Target // see TargetOf
	Source      SourceFacts
	Destination DestinationFacts
	// Knowledge is of what must not be done harm; the zero value where nothing can be.
	Knowledge Knowledge
	// Other is what is known of the disk that the source is compared with, nil where there is none.
	Other *SourceFacts
	// Device is the disk that is written over, nil where none is.
	Device *DeviceFacts
	// Scratch is how many bytes are free for what is made on the way; it is looked at only where something is.
	Scratch int64
	// Speeds are what steps were last seen to reach, in bytes a second, by their names.
	Speeds map[string]float64
}

// Link is a name that leads to another one.
type Link struct{ Name, To string }

// SourceFacts are what is known of the source. Sizes are in bytes.
type SourceFacts struct {
	Problem     error // why it cannot be opened or is not consistent; then the rest says nothing
	Description disk.Description
	Allocated   int64
	AtLeast     bool // there may be more allocated: it is too scattered for all of it to be counted
	FileSize    int64
	InUse       error // another program uses it, in words
	Snaps       bool  // its storage can show it as it is at one moment
	Checked     bool  // the format has tables, and they agree with each other

	Opens string // name of what opens it

	// For a copy, and for a source that is to be released.
	Files    []FileFact // of it and of all that it stands on
	Tags     []string   // of those that it stands on
	Standing []string   // disks that stand on it, but not of its own chain
	ReadOnly bool
	Users    []User // that have it among their disks
	Family   []Kin  // what stands on it, when that is to come along
	// Stays are files that would go with it and lie at the destination already, under the names that they would get.
	Stays []string

	Links  []Link          // those of its files that are links to others
	Tag    *TagFacts       // of the tag beside it, nil without one
	Counts int64           // the size of the sectors in which its partition table counts, 0 where that is not told
	Shares []inspect.Share // what is read of partitions, where not all is
	Fit    *fit.Layout     // where partitions go, when the disk is to get another size
	Unfit  error           // why it cannot have that; then Fit is nil
	Adapt  *adapt.Changes  // what is changed on the copy, when it comes to a new place
	Inside []string        // what an inspection of the content doubts
	Sums   bool            // there are checksums of its pieces beside it
	// Arriving tells that it is an upload that is not there as a whole.
	Arriving bool
	Lacks    []string       // files of it that are known to be missing or short, in words
	Root     volumes.Ground // where its pool lies on its host
	Host     string         // of its pool
}

// TagFacts are what the tag beside a disk says.
type TagFacts struct {
	Name    string
	Problem error // why it cannot be read; then the rest says nothing
	Made    time.Time
	Older   bool     // than the files of the disk, or it speaks of other ones
	Doubts  []string // that it tells
}

// Kin is a disk that stands on the one that is copied, and comes along.
type Kin struct {
	Path   string   `json:"path"`
	Format string   `json:"format"`
	Layout string   `json:"layout"`
	Files  []string `json:"files"`
	// Direct tells that it names the disk itself as its base: nothing else lies between them.
	Direct bool `json:"direct,omitempty"`
}

// DestinationFacts are what is known of the place to write to.
type DestinationFacts struct {
	Space      storage.Space
	Exists     bool       // a file of the new image
	SameFile   string     // the file of the source that lies there, when it is that itself
	InUse      error      // another program uses a file that lies there, in words
	Standing   []string   // disks that stand on what would be replaced, and stay
	Others     []string   // files of the disk that lies there, which are not of the new image
	Leftover   []string   // files that would become a part of the new disk
	Base       *BaseFacts // nil when none is asked for
	Keeping    Keeping
	Stored     disk.Stored    // for the units of all layouts
	Shrinks    float64        // what part of the content is left when it is compressed, by a sample; only for a layout that does so
	Held       int64          // bytes that replaced disks take which are kept for a while
	OtherName  string         // a name close to the one asked for that is free, when that exists
	Onto       string         // the disk that is read, where the new image would lie on that itself
	Obstructed error          // why its folder cannot be looked at
	Rules      Rules          // of its pool
	UUID       string         // a fresh one, for a name
	Neighbours []string       // machines whose definitions lie in the folder of the new image
	Root       volumes.Ground // where its pool lies on its host, when that is the source's
	Host       string         // of its pool

	// For a copy.
	SameStorage bool  // as the source's: files can change their place without being copied
	ToCopy      int64 // bytes of the files that are not holes
	Sums        bool  // its host takes SHA-256 itself
	BaseMissing bool  // what the source stands on does not lie there
}

// BaseFacts are what is known of the disk that the new one is to stand on.
type BaseFacts struct {
	Problem     error // why it cannot be opened
	Description disk.Description
	Written     bool // it is a file that the job would write
}
