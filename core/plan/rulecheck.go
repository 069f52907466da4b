package plan

import (
	"cmp"
	"encoding/json"
	"fmt"
	"path"
	"slices"
	"strings"

	"bagaglio/core/disk"

	jsonpatch "github.com/evanphx/json-patch/v5"
)

// checkRules: what the destination's pool accepts.
func (p *maker) checkRules() {
	r := p.facts.Destination.Rules
	if !r.Accept(p.Disk.After.Format, p.layout) {
		p.add(
			Blocks,
			"rule-format",
			fmt.Sprintf("The pool %s does not accept %s, %s.", p.Disk.After.Place.Pool, p.Disk.After.Format, p.Disk.After.Layout),
			p.accepted()...)
	}
	for _, k := range p.Family {
		f, err := disk.Lookup(k.Format)
		if err != nil {
			continue // it could not have been opened
		}
		if l, _ := f.Layout(k.Layout); !r.Accept(k.Format, l) { // one that is only read is accepted by its format
			p.add(
				Blocks,
				"rule-format",
				fmt.Sprintf("The pool %s does not accept %s, %s, which %s is.", p.Disk.After.Place.Pool, k.Format, k.Layout, k.Path),
			)
		}
	}
	if size := p.Disk.After.VirtualSize; r.LargestDisk > 0 && size > r.LargestDisk {
		p.add(
			Blocks,
			"rule-size",
			fmt.Sprintf(
				"The pool %s accepts disks of at most %s, and this one has %s: choose another pool.",
				p.Disk.After.Place.Pool,
				Bytes(r.LargestDisk),
				Bytes(size),
			),
		)
	}
	if g := r.Granularity; g > 0 && p.Disk.After.VirtualSize%g != 0 {
		change := map[string]any{"round_to": g}
		if p.Disk.Request.Kind == Copy {
			change = p.asConversion(p.format, p.Disk.After.Layout, change)
		}
		p.add(
			Blocks,
			"rule-size",
			fmt.Sprintf(
				"The pool %s accepts sizes in units of %s, and this disk has %s.",
				p.Disk.After.Place.Pool,
				Bytes(g),
				Bytes(p.Disk.After.VirtualSize),
			),
			remedy("Round the size up", change),
		)
	}
	name := path.Base(p.Disk.Request.Destination.Path)
	if ext := path.Ext(name); r.Name != "" && !r.Fits(name, ext) {
		fitting := r.Fitting(p.Disk.Request.Destination.Path, p.machine(), p.facts.Destination.UUID, p.format.Extensions[0])
		p.add(
			Blocks,
			"rule-name",
			fmt.Sprintf(
				"The pool %s lists only files named %s, such as %s, and this one would be %s.",
				p.Disk.After.Place.Pool,
				r.Name,
				path.Base(fitting),
				name,
			),
			remedy("Name it "+path.Base(fitting)+"; its own name stays in the tag", map[string]any{"destination": map[string]any{"path": fitting}}),
		)
	}
	if folder := p.folder(); folder != "" {
		p.add(
			Blocks,
			"rule-folder",
			fmt.Sprintf("In the pool %s each machine has a folder of its own, and this disk would lie in none.", p.Disk.After.Place.Pool),
			remedy("Put it into the folder "+folder, map[string]any{"destination": map[string]any{"path": path.Join(folder, name)}}),
		)
	}
	p.checkMachines()
	var set []string
	if r.Owner != "" {
		set = append(set, "the owner "+r.Owner)
	}
	if r.Mode != "" {
		set = append(set, "the mode "+r.Mode)
	}
	if len(set) > 0 {
		p.add(Informs, "rule-owner", fmt.Sprintf("The files get %s.", strings.Join(set, " and ")))
	}
}

// machine is the name of one that uses the disk, empty when none is known.
func (p *maker) machine() string {
	if users := p.facts.Source.Users; len(users) > 0 {
		return users[0].Name
	}
	return ""
}

// folder is that of a machine which the rules want the disk in, empty when it lies in one or need not.
func (p *maker) folder() string {
	to := path.Clean(p.Disk.Request.Destination.Path)
	if !p.facts.Destination.Rules.MachineFolders || strings.Contains(to, "/") {
		return ""
	}
	return cmp.Or(p.machine(), strings.TrimSuffix(to, path.Ext(to)))
}

// byRules is the place of an image of another format, named as the pool wants it.
func (p *maker) byRules(f disk.Format) string {
	name, r := p.rename(f), p.facts.Destination.Rules
	if !r.Fits(name, f.Extensions[0]) {
		name = r.Fitting(name, p.machine(), p.facts.Destination.UUID, f.Extensions[0])
	}
	return path.Join(p.folder(), name)
}

// checkMachines: what the machines that use the disk make of its new place, and those that live there already.
func (p *maker) checkMachines() {
	users, near, dest := userNames(p.facts.Source.Users), p.facts.Destination.Neighbours, p.Disk.Request.Destination
	if len(users) > 0 && p.facts.Destination.Rules.NoRunning {
		p.add(
			Warns,
			"rule-running",
			fmt.Sprintf(
				"%s use(s) this disk, and the pool %s is not for machines that run: put it into another pool before one is started on it.",
				strings.Join(users, ", "),
				dest.Pool,
			),
		)
	}
	if len(near) > 0 && !slices.ContainsFunc(near, func(m string) bool { return slices.Contains(users, m) }) {
		p.add(
			Warns,
			"folder",
			fmt.Sprintf(
				"The folder %s is that of %s, which does not use this disk: whoever clears up after that machine may take it along. Choose a folder of its own.",
				path.Dir(dest.Path),
				strings.Join(near, ", "),
			),
		)
	}
}

// asConversion is a change of the request that makes a conversion of it.
func (p *maker) asConversion(f disk.Format, layout string, more map[string]any) map[string]any {
	more["kind"], more["as"], more["layout"] = Convert, f.Name, layout
	if p.Disk.Request.Chain != "" {
		more["chain"] = nil
	}
	return more
}

// accepted offers the layouts that the pool accepts and that hold the disk.
func (p *maker) accepted() (out []Remedy) {
	r := p.facts.Destination.Rules
	choices := r.Choices()
	slices.SortStableFunc(choices, func(a, b Accepted) int { // its own format first
		return cmp.Compare(
			map[bool]int{true: 0, false: 1}[a.Format == p.Disk.Before.Format],
			map[bool]int{true: 0, false: 1}[b.Format == p.Disk.Before.Format],
		)
	})
	for _, c := range choices {
		f, err := disk.Lookup(c.Format)
		if err != nil || len(out) == mostOffered {
			continue
		}
		for _, name := range c.Layouts {
			l, err := f.Layout(name)
			if err != nil || p.Disk.After.VirtualSize > l.LimitFor(disk.Options{}) {
				continue
			}
			change := p.asConversion(f, name, map[string]any{"destination": map[string]any{"path": p.byRules(f)}})
			if f.Name == p.Disk.Before.Format && name == p.Disk.Before.Layout && p.Disk.Before.VirtualSize%max(r.Granularity, 1) == 0 {
				change = map[string]any{"kind": Copy, "as": nil, "layout": nil, "destination": map[string]any{"path": p.byRules(f)}}
			}
			out = append(out, remedy(fmt.Sprintf("Convert to %s, %s", f.Name, name), p.without(change)))
		}
	}
	return slices.Clip(out)
}

// rulePrefix begins the names of checks by the rules of a pool.
const rulePrefix = "rule-"

// byRule tells whether a check by the rules stands in the way, and can be settled.
func (c Check) byRule() bool {
	return c.Severity == Blocks && strings.HasPrefix(c.Name, rulePrefix) && len(c.Remedies) > 0
}

// ByRules is the request with the first thing settled that the rules of the destination's pool ask for. It is false when there is nothing
// of that kind.
func (p Plan) ByRules() (r Request, ok bool, err error) {
	i := slices.IndexFunc(p.Checks, Check.byRule)
	if i < 0 {
		return p.Request, false, nil
	}
	whole, err := json.Marshal(p.Request)
	if err == nil {
		whole, err = jsonpatch.MergePatch(whole, p.Checks[i].Remedies[0].Change)
	}
	if err == nil {
		err = json.Unmarshal(whole, &r)
	}
	if err != nil {
		return r, false, fmt.Errorf("doing what the rules ask for: %w", err)
	}
	return r, true, nil
}

// OnlyRules tells whether nothing stands in the way but what the rules ask for and what can be done.
func (p Plan) OnlyRules() bool {
	return p.Blocked() && !slices.ContainsFunc(p.Checks, func(c Check) bool { return c.Severity == Blocks && !c.byRule() })
}
