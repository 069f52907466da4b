package plan

import (
	"slices"
	"strings"
)

// Touches are the pools that a request reads from or writes to, as far as it names them, and the hosts whose machines or devices it is about, each once.
func (r Request) Touches() (pools, hosts []string) {
	places := []Place{r.Source}
	for _, p := range []*Place{r.Destination, r.AgainstDisk} {
		if p != nil {
			places = append(places, *p)
		}
	}
	for _, d := range r.Disks {
		places = append(places, Place{Pool: d.Pool})
	}
	for _, p := range places {
		if host, ok := strings.CutSuffix(p.Pool, devices); ok {
			hosts = append(hosts, host)
		} else {
			pools = append(pools, p.Pool)
		}
	}
	for _, machine := range []string{r.Machine, r.To} { // which may be one of a host, or the host
		host, _, _ := strings.Cut(machine, ":")
		hosts = append(hosts, host)
	}
	return each(pools), each(hosts)
}

// Touches are those of the request, of the disks that go along, of the definitions that follow, and of all files that are used.
func (p Plan) Touches() (pools, hosts []string) {
	pools, hosts = p.Request.Touches()
	for _, d := range p.Bodies {
		more, on := d.Request.Touches()
		pools, hosts = append(pools, more...), append(hosts, on...)
		for _, h := range d.Handovers {
			if pools = append(pools, h.Pool); h.To != nil {
				pools = append(pools, h.To.Pool)
			}
		}
	}
	for _, u := range p.Uses() {
		more, on := Request{Source: Place{Pool: u.Pool}}.Touches()
		pools, hosts = append(pools, more...), append(hosts, on...)
	}
	return each(pools), each(hosts)
}

// each sorts names and leaves each one once, and none that is empty.
func each(names []string) []string {
	slices.Sort(names)
	return slices.DeleteFunc(slices.Compact(names), func(n string) bool { return n == "" })
}
