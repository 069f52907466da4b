package cli

import (
	"encoding/json"
	"testing"

	"bagaglio/core/disk"
	"bagaglio/core/plan"

	"github.com/stretchr/testify/assert"
)

// TestEveryRemedyHasWords: what a button of the console does, said for a terminal.
func TestEveryRemedyHasWords(t *testing.T) {
	to := func(pool, name string) *plan.Place { return &plan.Place{Pool: pool, Path: name} }
	copied := plan.Request{Kind: plan.Copy, Destination: to("lamp-room", "a.raw")}
	for _, c := range []struct {
		r            plan.Request
		change, want string
	}{
		{copied, `{"kind": "convert", "as": "vhd", "layout": "dynamic", "chain": null, "destination": {"path": "x/a.vhd"}}`, "--as vhd --layout dynamic, to lamp-room:x/a.vhd"},
		{plan.Request{Kind: plan.Convert, Destination: to("", "../out/a.vhd")}, `{"destination": {"path": "a-2.vhd"}}`, "to ../out/a-2.vhd"},
		{copied, `{"replace": true}`, "--replace"},
		{copied, `{"leave_definitions": true}`, "--leave-definitions"},
		{plan.Request{Release: true, LeaveDefinitions: true}, `{"leave_definitions": null}`, "without --leave-definitions"},
		{plan.Request{Release: true}, `{"release": null}`, "bagaglio copy"},
		{plan.Request{Chain: plan.ChainAlone}, `{"family": true, "chain": null}`, "--family, without --chain"},
		{copied, `{"round_to": 1048576, "as": "raw"}`, "--as raw --round-to 1048576"},
		{plan.Request{Layout: "thick", Options: disk.Options{BlockSize: 65536}}, `{"layout": "thin", "options": null}`, "--layout thin, without --block-size"},
		{copied, `{"options": {"piece_size": 2147483648}}`, "--piece-size 2147483648"},
		{copied, `{"source": {"format": "raw", "by_geometry": true}}`, "--from raw --by-geometry"},
		{plan.Request{NoProof: true}, `{"no_proof": null}`, "without --no-proof"},
		{copied, `{"suspend": true}`, "--suspend"},
		{copied, `{"identity": "new"}`, "--identity new"},
		{copied, `{"disks": {"sdb": {"leave": true}}}`, "--leave sdb"},
		{copied, `{"layout": null}`, ""},
		{copied, `nothing`, ""},
	} {
		assert.Equal(t, c.want, wayTo(c.r, plan.Remedy{Change: json.RawMessage(c.change)}), c.change)
	}
}
