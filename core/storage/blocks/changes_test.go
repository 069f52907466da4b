package blocks

import (
	"strings"
	"testing"

	"bagaglio/core/fingerprint"

	"github.com/stretchr/testify/assert"
)

const mib = fingerprint.LeafSize

// TestWhatTheKernelTells of requests: what writes, and where; what is a read, another event, or another word is not taken for that.
func TestWhatTheKernelTells(t *testing.T) {
	const before = "          dd-29725   [000] ..... 36709.234979: "
	for line, want := range map[string][]int64{
		before + "block_rq_issue: 7,0 WS 4096 () 800 + 8 be,0,4 [dd]":                                {0},
		before + "block_rq_issue: 8,16 W 319488 () 2044 + 8 be,0,4 [kworker/u8:5]":                   {0, 1},
		before + "block_rq_issue: 8,16 W 4096 () 4096 + 8 [kworker/u8:5]":                            {2},
		before + "block_rq_complete: 8,16 FWS () 4096 + 4096 be,0,4 [0]":                             {2, 3},
		before + "block_rq_complete: 8,16 D (35 00 00) 6144 + 8 none,0,0 [-5]":                       {3},
		before + "block_rq_issue: 8,16 N 0 (9e 10) 6144 + 1 none,0,0 [x]":                            {3},
		before + "block_rq_issue: 7,0 R 4096 () 2000 + 8 be,0,4 [dd]":                                nil,
		before + "block_rq_issue: 7,0 FF 0 () 0 + 0 none,0,0 [kworker/1:2H]":                         nil,
		before + "block_rq_complete: 7,0 FF () 18446744073709551615 + 0 none,0,0 [0]":                nil,
		before + "block_bio_queue: 7,0 W 800 + 8 [dd]":                                               nil,
		"  block_rq_issue:-12 [000] ..... 1.0: block_rq_issue: 7,0 RA 4096 () 0 + 8 be,0,4 [W () 8]": nil,
		"": nil,
	} {
		c := newChanges(16 * mib)
		c.take(line)
		var got []int64
		for leaf := range int64(16) {
			if c.leaves[leaf] {
				got = append(got, leaf)
			}
		}
		assert.Equal(t, want, got, line)
		assert.False(t, c.lost, line)
	}
	for _, line := range []string{
		"CPU:1 [LOST 23 EVENTS]", before + "block_rq_issue: dev 7,0 op W at 800 of 8", before + "block_rq_issue: 7,0 W 4096 () 99999999999999999999 + 8 be,0,4 [dd]",
		before + "block_rq_issue: 7,0 W 4096 () 32760 + 999999999999 be,0,4 [dd]", before + "block_rq_issue: 7,0 W 4096 () 999999999999 + 8 be,0,4 [dd]",
	} {
		c := newChanges(16 * mib)
		c.take(line)
		assert.True(t, c.lost, line)
		assert.Empty(t, c.leaves)
	}
}

// FuzzTrace takes whatever a computer prints.
func FuzzTrace(f *testing.F) {
	f.Add("dd-1 [000] ..... 1.0: block_rq_issue: 7,0 WS 4096 () 800 + 8 be,0,4 [dd]")
	f.Add("dd-1 [000] ..... 1.0: tracing_mark_write: bagaglio 1")
	f.Fuzz(func(t *testing.T, line string) {
		c := newChanges(64 * mib)
		c.take(strings.ToValidUTF8(line, "?"))
		for leaf := range c.leaves {
			assert.Less(t, leaf, int64(64))
			assert.GreaterOrEqual(t, leaf, int64(0))
		}
	})
}
