package plan

import (
	"slices"
	"testing"

	"bagaglio/core/disk"
	"bagaglio/core/storage"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestWhichFileBecomesWhich(t *testing.T) {
	for _, c := range []struct {
		name, opens string
		files       []string // of the image, as the format lists them
		chain       []string
		to, how     string
		root        string
		want        []string // what opens it last
		fails       string
	}{
		{"one file", "a.raw", []string{"a.raw"}, nil, "deck/b.raw", "", "deck", []string{"b.raw"}, ""},
		{"extents", "x/a.vmdk", []string{"x/a.vmdk", "x/a-s001.vmdk", "x/a-s002.vmdk"}, nil, "b.vmdk", "", ".", []string{"b-s001.vmdk", "b-s002.vmdk", "b.vmdk"}, ""},
		{"pieces", "a.raw.001", []string{"a.raw.001", "a.raw.002"}, nil, "b.raw", "", ".", []string{"b.raw.002", "b.raw.001"}, ""},
		{"pieces by number", "a.raw.001", []string{"a.raw.001", "a.raw.002"}, nil, "b.raw.001", "", ".", []string{"b.raw.002", "b.raw.001"}, ""},
		{"a folder", "a.hdd", []string{"a.hdd/a.hdd", "a.hdd/data.hds", "a.hdd/D.xml"}, nil, "x/b.hdd", "", "x", []string{"b.hdd/b.hdd", "b.hdd/data.hds", "b.hdd/D.xml"}, ""},
		{"a chain", "a.qcow2", []string{"a.qcow2"}, []string{"base.qcow2"}, "x/b.qcow2", "", "x", []string{"base.qcow2", "b.qcow2"}, ""},
		{"a chain, alone", "a.qcow2", []string{"a.qcow2"}, []string{"base.qcow2"}, "x/b.qcow2", ChainAlone, "x", []string{"b.qcow2"}, ""},
		{"bases above", "m/a.qcow2", []string{"m/a.qcow2"}, []string{"bases/os.qcow2"}, "new/m/b.qcow2", "", "new", []string{"bases/os.qcow2", "m/b.qcow2"}, ""},
		{"bases above, same place", "m/a.qcow2", []string{"m/a.qcow2"}, []string{"os.qcow2"}, "m/a.qcow2", "", ".", []string{"os.qcow2", "m/a.qcow2"}, ""},
		{"bases would be lost", "m/a.qcow2", []string{"m/a.qcow2"}, []string{"bases/os.qcow2"}, "b.qcow2", "", "", nil, "has to lie in a folder m too"},
	} {
		t.Run(c.name, func(t *testing.T) {
			s := SourceFacts{Opens: c.opens, Description: disk.Description{Files: c.files, Chain: c.chain}}
			root, copied, own, err := Copies(Request{Kind: Copy, Destination: &Place{Path: c.to}, Chain: c.how}, s)
			if c.fails != "" {
				require.ErrorContains(t, err, c.fails)
				return
			}
			require.NoError(t, err)
			assert.Equal(t, c.root, root)
			var names []string
			for _, f := range copied {
				names = append(names, f.To)
			}
			assert.Equal(t, c.want, names)
			assert.Len(t, own, len(c.files))
		})
	}
}

// TestACopyThatIsTooLong for a drive is offered in pieces.
func TestACopyThatIsTooLong(t *testing.T) {
	f := facts()
	f.Source.Opens, f.Source.Description.Files, f.Source.Files = "ticketing.raw", []string{
		"ticketing.raw",
	}, []FileFact{
		{"ticketing.raw", 40 * gib, gib},
	}
	f.Destination.Space = storage.Space{Kind: "fat", Total: 100 * gib, Free: 50 * gib, LargestFile: 4*gib - 1, Removable: true}
	r := Request{
		Kind:        Copy,
		Source:      Place{Pool: "quay-store", Path: "ticketing.raw"},
		Destination: &Place{Pool: "seabag", Path: "ticketing.raw"},
	}
	p, err := made(r, f)
	require.NoError(t, err)
	check := find(p, "largest-file", Blocks)
	require.NotNil(t, check)
	var changes []string
	for _, x := range check.Remedies {
		changes = append(changes, string(x.Change))
	}
	assert.Contains(t, changes, `{"as":"raw","destination":{"path":"ticketing.raw"},"kind":"convert","layout":"pieces"}`)
	require.NotNil(t, find(p, "holes", Warns), "what has no holes takes all of it")
	require.NotNil(t, find(p, "removable", Informs))
}

// TestHowCopiesAreProven: a host takes checksums of what is stored, and what is mostly holes is read back.
func TestHowCopiesAreProven(t *testing.T) {
	for _, c := range []struct {
		stored        int64
		sums, noProof bool
		want          bool
		bytes         int64 // to be proven
	}{
		{40 * gib, true, false, true, 40 * gib}, {10 * gib, true, false, true, 40 * gib}, {gib, true, false, false, gib}, {40 * gib, false, false, false, 40 * gib}, {40 * gib, true, true, false, 0},
	} {
		f := facts()
		f.Source.Opens, f.Source.Description.Files, f.Source.Files = "ticketing.raw", []string{
			"ticketing.raw",
		}, []FileFact{
			{"ticketing.raw", 40 * gib, c.stored},
		}
		f.Destination.ToCopy, f.Destination.Sums = c.stored, c.sums
		p, err := made(
			Request{Kind: Copy, Source: Place{Path: "ticketing.raw"}, Destination: &Place{Path: "ticketing.raw"}, NoProof: c.noProof},
			f,
		)
		require.NoError(t, err)
		assert.Equal(t, c.want, p.Bodies[0].Sums, "%+v", c)
		var prove int64
		for _, s := range p.Steps {
			if s.Kind == StepProve {
				prove = s.Bytes
			}
		}
		assert.Equal(t, c.bytes, prove, "%+v", c)
	}
}

func TestBalance(t *testing.T) {
	pools := []PoolState{
		{Pool: "quay", Total: 100, Free: 10},
		{Pool: "lighthouse", Total: 100, Free: 60},
		{Pool: "lamp-room", Total: 100, Free: 90, Rules: Rules{Accepts: []Accepted{{Format: "vhd"}}}},
	}
	loads := []Load{
		{
			Pool:   "quay",
			Path:   "a.raw",
			Format: "raw",
			Layout: "thin",
			Room:   40,
		},
		{Pool: "quay", Path: "b.vhd", Format: "vhd", Layout: "dynamic", Room: 30},
		{
			Pool:   "quay",
			Path:   "c.raw",
			Format: "raw",
			Layout: "thin",
			Room:   20,
		},
		{Pool: "quay", Path: "d.raw", Format: "raw", Layout: "thin", Room: 5, Stays: "it does not open"},
	}
	b := Drain(pools[0], pools[1:], loads)
	require.Len(t, b.Carries, 2)
	assert.Equal(
		t,
		[]string{"a.raw", "lighthouse", "b.vhd", "lamp-room"},
		[]string{b.Carries[0].Path, b.Carries[0].To, b.Carries[1].Path, b.Carries[1].To},
		"the largest first, each where it may lie",
	)
	assert.Equal(t, int64(40), b.Carries[0].Room)
	require.Len(t, b.Left, 2)
	assert.Contains(t, b.Left[0].Why, "lighthouse has no room for it; lamp-room does not accept it")
	assert.Equal(t, "it does not open", b.Left[1].Why)
	assert.Equal(t, []int64{10, 70}, []int64{b.After[0].Free, b.After[0].Held}, "what goes is held for a while")
	assert.Equal(t, int64(10), b.Before[0].Free)

	b = Spread(pools, loads)
	assert.NotEmpty(t, b.Carries)
	fullest := func(pools []PoolState) (most float64) {
		for _, p := range pools {
			most = max(most, p.used())
		}
		return most
	}
	assert.Less(t, fullest(b.After), fullest(b.Before))
	require.Len(t, b.Left, 1)
	assert.Equal(t, "d.raw", b.Left[0].Path)
	moved := slices.Clone(loads)
	for _, c := range b.Carries {
		i := slices.IndexFunc(moved, func(l Load) bool { return l.Path == c.Path })
		moved[i].Pool = c.To
	}
	assert.Empty(t, Spread(b.After, moved).Carries, "a second time proposes nothing: what is held is free soon")

	// Pools on one filesystem share its room, and what goes between them takes none; without holes a thin disk takes all of its length.
	shared := []PoolState{
		{Pool: "quay", Total: 100, Free: 10, Storage: "a"},
		{Pool: "pier", Total: 100, Free: 10, Storage: "a"},
		{Pool: "seabag", Total: 100, Free: 60, Storage: "b"},
	}
	thin := []Load{{Pool: "quay", Path: "a.raw", Format: "raw", Layout: "thin", Room: 5, Size: 50, Storage: "a"}}
	assert.Empty(t, Spread(shared[:2], thin).Carries)
	assert.Equal(t, "pier", Drain(shared[0], shared[1:2], thin).Carries[0].To)
	b = Drain(shared[1], shared[2:], []Load{{Pool: "pier", Path: "a.raw", Format: "raw", Layout: "thin", Room: 5, Size: 50, Storage: "a"}})
	assert.Equal(t, int64(10), b.After[1].Free)

	pools[1].Names, loads[0].Files, loads[2].Files = map[string]bool{"a.raw": true}, []string{"a.raw"}, []string{"c.raw"}
	b = Drain(pools[0], pools[1:2], loads)
	require.Len(t, b.Carries, 2)
	assert.Equal(t, Left{"quay", "a.raw", "lighthouse has another file of that name"}, b.Left[0])
	assert.Len(t, pools[1].Names, 1)
	assert.True(t, b.After[1].Names["c.raw"])
}

// TestMachinesAreNotTornApart where one pool takes all of their disks.
func TestMachinesAreNotTornApart(t *testing.T) {
	from := PoolState{Pool: "quay", Total: 100, Free: 10}
	to := []PoolState{
		{Pool: "lighthouse", Total: 100, Free: 45},
		{Pool: "lamp-room", Total: 200, Free: 80},
		{Pool: "shelf", Total: 900, Free: 900, Rules: Rules{NoRunning: true}},
	}
	load := func(name, machine string, room int64) Load {
		return Load{Pool: "quay", Path: name, Machine: machine, Format: "raw", Layout: "thin", Room: room}
	}
	loads := []Load{load("tide.raw", "tide-board", 25), load("log.raw", "tide-board", 20), load("base.raw", "", 30)}
	loads[2].Family = true
	where := func(b Balance) map[string]string {
		at := map[string]string{}
		for _, c := range b.Carries {
			at[c.Path] = c.To
		}
		return at
	}
	b := Drain(from, to, loads)
	assert.Equal(
		t,
		map[string]string{"tide.raw": "lamp-room", "log.raw": "lamp-room", "base.raw": "shelf"},
		where(b),
		"a shelf is not for what runs",
	)
	i := slices.IndexFunc(b.Carries, func(c Carry) bool { return c.Path == "base.raw" })
	assert.True(t, b.Carries[i].Request.Family)
	assert.True(t, b.Carries[i].Request.Release)

	to[1].Free = 35 // no pool takes both: the disks go one by one
	assert.Equal(t, map[string]string{"tide.raw": "lighthouse", "log.raw": "lamp-room", "base.raw": "shelf"}, where(Drain(from, to, loads)))
	assert.Equal(t, map[string]string{"base.raw": "shelf"}, where(Spread(append(to, from), loads)), "to spread load, no machine is torn apart")
	to[0].Rules.MachineFolders = true
	assert.Equal(t, "lamp-room", where(Drain(from, to, loads))["tide.raw"], "it lies in no folder")
}

func TestNamesByRule(t *testing.T) {
	const id = "7f1c9a2e-0000-4000-8000-0123456789ab"
	for _, c := range []struct{ pattern, name, want string }{
		{"UUIDEXT", "x/ticketing.raw", "x/" + id + ".vhd"}, {"MACHINE-NAMEEXT", "a.raw", "a-a.vhd"}, {"NAME.disk", "UUID.raw", "UUID.disk"}, {"", "a.raw", "a.raw"},
	} {
		r := Rules{Name: c.pattern}
		got := r.Fitting(c.name, "", id, ".vhd")
		assert.Equal(t, c.want, got)
		assert.True(t, r.Fits(got, ".vhd"), got)
	}
	assert.False(t, Rules{Name: "UUIDEXT"}.Fits("ticketing.vhd", ".vhd"))
	require.Error(t, Rules{Name: "disk"}.Validate())
	require.Error(t, Rules{Mode: "rw"}.Validate())
	require.Error(t, Rules{Owner: "root"}.Validate())
	require.Error(t, Rules{Accepts: []Accepted{{Format: "floppy"}}}.Validate())
}

// TestTraitsCombine: in whatever order, to rules that make sense and that every trait would have made for itself, or to an error.
func TestTraitsCombine(t *testing.T) {
	var names []string
	for _, x := range Traits {
		names = append(names, x.Name)
	}
	worked := 0
	for set := range 1 << len(names) {
		var chosen []string
		for i, name := range names {
			if set>>i&1 == 1 {
				chosen = append(chosen, name)
			}
		}
		r, err := Combine(chosen)
		slices.Reverse(chosen)
		reversed, errReversed := Combine(chosen)
		require.Equal(t, err == nil, errReversed == nil)
		if err != nil {
			assert.Subset(t, chosen, []string{"flat-only", "dynamic-only"}, "nothing else contradicts each other")
			continue
		}
		assert.Equal(t, r, reversed)
		worked++
		require.NoError(t, r.Validate())
		assert.Len(t, r.Traits, len(chosen))
		for _, c := range r.Choices() {
			f, err := disk.Lookup(c.Format)
			require.NoError(t, err)
			l, err := f.Layout(c.Layouts[0])
			require.NoError(t, err)
			for _, x := range Traits {
				assert.True(t, !slices.Contains(chosen, x.Name) || x.Rules.Accept(c.Format, l), "%s, %s, by %s", c.Format, l.Name, x.Name)
			}
		}
	}
	assert.Equal(t, 96, worked)
	for _, wrong := range [][]string{{"shiny"}, {"thin-only", "thin-only"}} {
		_, err := Combine(wrong)
		require.Error(t, err)
	}
	both, err := Narrow(
		[]Accepted{{Format: "vhd", Layouts: []string{"dynamic", "fixed"}}, {Format: "raw"}},
		[]Accepted{{Format: "vhd", Layouts: []string{"fixed"}}},
	)
	require.NoError(t, err)
	assert.Equal(t, []Accepted{{"vhd", []string{"fixed"}}}, both)
	_, err = Narrow([]Accepted{{Format: "raw"}}, []Accepted{{Format: "vhd"}})
	require.Error(t, err)
}
