package access

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"bagaglio/internal/records"
)

// Works is where somebody may work: pool:NAME, and host:NAME with all pools on it. Nothing stands for everywhere. Looking is not limited by it, but for the
// content of disks and files.
type Works []string

// goodPlace is what a place to work on looks like.
var goodPlace = regexp.MustCompile(`^(pool|host):[^\s:]{1,63}$`)

// worksOf reads what is kept.
func worksOf(text string) Works { return strings.Fields(text) }

// text is what is kept.
func (w Works) text() string { return strings.Join(w, " ") }

// check fails for what is no place.
func (w Works) check() error {
	for _, place := range w {
		if !goodPlace.MatchString(place) {
			return fmt.Errorf("%w: %q is no place to work on: write pool:NAME or host:NAME", records.ErrInvalid, place)
		}
	}
	return nil
}

// Everywhere tells that it is not limited.
func (w Works) Everywhere() bool { return len(w) == 0 }

// OnHost tells whether somebody may work on a host.
func (w Works) OnHost(name string) bool { return w.Everywhere() || slices.Contains(w, "host:"+name) }

// OnPool tells whether somebody may work on a pool, which is on a host.
func (w Works) OnPool(name, host string) bool {
	return w.OnHost(host) || slices.Contains(w, "pool:"+name)
}
