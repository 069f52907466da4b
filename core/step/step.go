// Package step says what kinds of steps there are, and what does and undoes them. A family of kinds works on one sort of subject: a disk,
// later a machine or a device. Families register themselves, as formats of disks do, and core/job drives them over a journal.
package step

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"sync"

	"bagaglio/core/receipt"
)

// Work is what does the steps of one subject while a job runs. It is used by one goroutine at a time.
type Work interface {
	// Open looks at what is there, and takes up what an earlier time left. It comes before the first step, and again when a job goes on.
	Open(ctx context.Context) error
	// Keep keeps how far it is, once something of it is anywhere.
	Keep(ctx context.Context) error
	// Close closes what was only read.
	Close()
	// Clear removes what has no name yet.
	Clear() error
	// IsEnough tells that nothing more is to be done, whatever steps are left.
	IsEnough() bool
	// CallOff takes back what an interrupted job, which does not go on, did to what was there before it.
	CallOff(ctx context.Context) error
	// Placed tells whether what is made has its name already, complete.
	Placed() bool
	// Receipt is what is proven so far.
	Receipt() *receipt.Receipt
}

// Action does or undoes a step. It looks first what is there already, so that it can be called again after it was interrupted at any
// moment.
type Action func(context.Context, Work) error

// Kind is a kind of step.
type Kind struct {
	Name string // in plans: "fill"
	// With is the kind of step that does this one too, and Do is nil then.
	With string
	Do   Action
	// Undo takes it back after it was done, and does nothing where Do never began. Nil where nothing is left to be taken back.
	Undo Action
}

// Family is the kinds of steps that one sort of subject has.
type Family struct {
	Name  string
	Kinds []Kind
	// Begin returns the work on the subject of a job. It touches nothing yet.
	Begin func(Job) (Work, error)
}

// On makes an action of a method of the work of a family.
func On[W Work](do func(W, context.Context) error) Action {
	return func(ctx context.Context, w Work) error { return do(w.(W), ctx) }
}

var registry struct {
	sync.RWMutex
	families map[string]Family // by kinds of steps
	kinds    map[string]Kind
}

// Register makes a family known. It panics when a kind of step is known already.
func Register(f Family) {
	registry.Lock()
	defer registry.Unlock()
	if registry.kinds == nil {
		registry.families, registry.kinds = map[string]Family{}, map[string]Kind{}
	}
	for _, k := range f.Kinds {
		if _, twice := registry.kinds[k.Name]; twice {
			panic("step: registered twice: " + k.Name)
		}
		registry.families[k.Name], registry.kinds[k.Name] = f, k
	}
}

// Lookup returns a kind of step and its family.
func Lookup(name string) (Kind, Family, error) {
	registry.RLock()
	defer registry.RUnlock()
	k, ok := registry.kinds[name]
	if !ok {
		return Kind{}, Family{}, fmt.Errorf("there is no step of the kind %q: a later version of Bagaglio planned it", name)
	}
	return k, registry.families[name], nil
}

// Kinds are the names of all kinds.
func Kinds() (names []string) {
	registry.RLock()
	defer registry.RUnlock()
	for name := range registry.kinds {
		names = append(names, name)
	}
	slices.Sort(names)
	return names
}

// Subject is that of a step by its ID: disk1 of disk1.fill.
func Subject(id string) string {
	subject, _, _ := strings.Cut(id, ".")
	return subject
}
