package cli

import (
	"encoding/json"
	"fmt"
	"path"
	"slices"
	"strings"

	"bagaglio/core/plan"
)

// remedyFlags are the flags for fields of a request, in the order in which they are told.
var remedyFlags = []struct{ field, flag string }{
	{
		"as",
		"as",
	},
	{"layout", "layout"},
	{"base", "base"},
	{"chain", "chain"},
	{"family", "family"},
	{"round_to", "round-to"},
	{"replace", "replace"},
	{"clear_held", "clear-held"},
	{
		"no_proof",
		"no-proof",
	},
	{"leave_definitions", "leave-definitions"},
	{"as_it_is", "as-it-is"},
	{"without_knowing", "without-knowing"},
	{"by_rules", "by-rules"},
	{"format", "from"},
	{"snapshot", "snapshot"},
	{"by_geometry", "by-geometry"},
	{
		"version",
		"format-version",
	},
	{"block_size", "block-size"},
	{"sector_size", "sector-size"},
	{"piece_size", "piece-size"},
	{"compression", "compression"},
	{"reserve", "reserve"},
	{"adapter", "adapter"},
	{"bundle", "bundle"},
	{"new_place", "fit-to"},
	{"fit", "fit"},
	{"stop", "stop"},
	{"start", "start"},
	{"suspend", "suspend"},
	{"live", "live"},
	{"longest_stop", "longest-stop"},
	{"with_memory", "with-memory"},
	{"start_first", "start-first"},
	{"keep_every", "every"},
	{"keep_after", "after"},
	{"identity", "identity"},
	{"name", "name"},
	{"networks", "network"},
	{"keep_present", "keep-present"},
	{"disks_only", "disks-only"},
	{"at_rest", "at-rest"},
	{"read_only", "read-only"},
	{"linked", "linked"},
}

// commandOf is a request for a machine that stays as a command of the client; empty for any other.
func commandOf(r plan.Request) string {
	words := []string{"bagaglio machine"}
	flag := func(name, value string) {
		if value != "" {
			words = append(words, "--"+name, value)
		}
	}
	switch r.Kind {
	case plan.AttachDisk:
		words = append(words, "attach", r.Machine, r.Source.String())
		flag("in-place-of", r.Slot)
		flag("bus", r.Bus)
		flag("serial", r.Serial)
		if r.ReadOnly {
			words = append(words, "--read-only")
		}
	case plan.DetachDisk:
		words = append(words, "detach", r.Machine, r.Slot)
	case plan.DropSnapshot:
		words = append(words, "snapshot drop", r.Machine, r.Snapshot)
		if r.ListOnly {
			words = append(words, "--list-only")
		}
	default:
		return ""
	}
	return strings.Join(words, " ")
}

// wayTo says what to write for a remedy of a request: the flags to add and to leave out, and the place to name. It is empty when the
// client has no words for it.
func wayTo(r plan.Request, remedy plan.Remedy) string {
	var change struct {
		Source, Destination, Options map[string]any
	}
	var fields, now map[string]any
	b, err := json.Marshal(r)
	if err != nil || json.Unmarshal(b, &now) != nil || json.Unmarshal(remedy.Change, &fields) != nil ||
		json.Unmarshal(remedy.Change, &change) != nil {
		return ""
	}
	has := map[string]bool{} // fields that are set now
	for _, part := range []any{now, now["source"], now["options"]} {
		for field := range asMap(part) {
			has[field] = true
		}
	}
	var add, drop []string
	for _, f := range remedyFlags {
		for _, part := range []map[string]any{fields, change.Source, change.Options} {
			value, named := part[f.field]
			switch flag := "--" + f.flag; {
			case !named || slices.Contains(add, flag):
			case (value == nil || value == false) && has[f.field]:
				drop = append(drop, flag)
			case value == nil || value == false:
			case value == true:
				add = append(add, flag)
			default:
				switch v := value.(type) {
				case float64:
					value = int64(v) // lengths are whole numbers
				case map[string]any: // of one to one
					for from, to := range v {
						value = fmt.Sprintf("%s=%v", from, to)
					}
				}
				add = append(add, fmt.Sprintf("%s %v", flag, value))
			}
		}
	}
	for slot, choice := range asMap(fields["disks"]) {
		if asMap(choice)["leave"] == true {
			add = append(add, "--leave "+slot)
		}
	}
	if options, named := fields["options"]; named && options == nil {
		for _, f := range remedyFlags {
			if _, set := asMap(now["options"])[f.field]; set {
				drop = append(drop, "--"+f.flag)
			}
		}
	}
	var said []string
	if _, copies := fields["release"]; copies && r.Release {
		said = append(said, "bagaglio copy")
	}
	if len(add) > 0 {
		said = append(said, strings.Join(add, " "))
	}
	if len(drop) > 0 {
		said = append(said, "without "+strings.Join(drop, " "))
	}
	if to, ok := change.Destination["path"].(string); ok && r.Destination != nil && to != r.Destination.Path {
		p := plan.Place{Pool: r.Destination.Pool, Path: to}
		if p.Pool == "" { // a path of this computer, as it was given
			dir, _ := path.Split(r.Destination.Path)
			p.Path = dir + path.Base(to)
		}
		said = append(said, "to "+p.String())
	}
	return strings.Join(said, ", ")
}

func asMap(v any) map[string]any {
	m, _ := v.(map[string]any) // nil for anything else
	return m
}
