package all

import (
	"encoding/json"
	"fmt"
	"os"
	"reflect"
	"slices"
	"strings"
	"testing"

	"bagaglio/core/machine"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// everything is a machine that says all that can be said, as a table of what is carried shows it.
func everything() machine.Machine {
	m := whole()
	m.Processors.Model, m.SecureBoot, m.TPM, m.Variables = "host", true, true, "/var/cargo.fd"
	m.Disks = m.Disks[:1]
	m.Disks[0].ReadOnly = true
	m.Displays, m.Serials = []string{"spice"}, []string{"file"}
	m.Networks = append(m.Networks, machine.Network{Kind: "direct", Network: "eth0"})
	return m
}

// TestCarriedIsAsDescribed: the table in docs/machines.md says what becomes of a machine in each format that writes definitions.
func TestCarriedIsAsDescribed(t *testing.T) {
	const doc, begin, end = "../../../docs/machines.md", "<!-- table -->\n", "<!-- end -->"
	b, err := os.ReadFile(doc)
	require.NoError(t, err)
	before, rest, found := strings.Cut(string(b), begin)
	require.True(t, found)
	table, after, found := strings.Cut(rest, end)
	require.True(t, found)
	want := carried(t)
	if os.Getenv("BAGAGLIO_WRITE") != "" {
		require.NoError(t, os.WriteFile(doc, []byte(before+begin+want+end+after), 0o644))
		return
	}
	assert.Equal(t, want, table, "make it anew: BAGAGLIO_WRITE=1 go test ./core/machine/all -run Described")
}

func carried(t *testing.T) string {
	t.Helper()
	var names []string
	into := map[string]map[string]string{}
	m := everything()
	for _, f := range machine.Formats() {
		if f.Write == nil {
			continue
		}
		names = append(names, f.Name)
		carried := m
		if carried.Disks = slices.Clone(m.Disks); !f.AnyImage && !slices.Contains(f.Images, m.Disks[0].Format) {
			carried.Disks[0].Format = f.Images[0] // it is converted before
		}
		text, err := machine.Become(nil, "another", f.Name, carried)
		require.NoError(t, err)
		is, err := machine.Describe(f.Name, text)
		require.NoError(t, err)
		into[f.Name] = map[string]string{}
		for _, d := range machine.Compare(m, is) {
			into[f.Name][d.What] = "lost"
			if d.After != "" {
				into[f.Name][d.What] = "changed to " + d.After
			}
		}
	}
	var out strings.Builder
	fmt.Fprintf(&out, "| of a machine | into `%s` |\n|---%s|\n", strings.Join(names, "` | into `"), strings.Repeat("|---", len(names)))
	for _, f := range machine.Facts(m) {
		fmt.Fprintf(&out, "| %s: %s", f.What, f.Value)
		for _, name := range names {
			becomes := into[name][f.What]
			if becomes == "" {
				becomes = "kept"
			}
			fmt.Fprintf(&out, " | %s", becomes)
		}
		fmt.Fprintln(&out, " |")
	}
	return out.String()
}

// TestSchema: the schema of machine files has the fields of a machine, and no others.
func TestSchema(t *testing.T) {
	b, err := os.ReadFile("../../../docs/machine.schema.json")
	require.NoError(t, err)
	type schema struct {
		Properties map[string]schema
		Items      *schema
		Defs       map[string]schema `json:"$defs"`
		Ref        string            `json:"$ref"`
	}
	var s schema
	require.NoError(t, json.Unmarshal(b, &s))
	var same func(where string, s schema, of reflect.Type)
	same = func(where string, is schema, of reflect.Type) {
		if is.Ref != "" {
			is = s.Defs[strings.TrimPrefix(is.Ref, "#/$defs/")]
		}
		var fields []string
		for _, f := range reflect.VisibleFields(of) {
			name, _, _ := strings.Cut(f.Tag.Get("json"), ",")
			fields = append(fields, name)
			next, inside := f.Type, is.Properties[name]
			if next.Kind() == reflect.Slice && inside.Items != nil {
				next, inside = next.Elem(), *inside.Items
			}
			if next.Kind() == reflect.Struct {
				same(where+"."+name, inside, next)
			}
		}
		var properties []string
		for name := range is.Properties {
			if name != "machine_file" {
				properties = append(properties, name)
			}
		}
		slices.Sort(properties)
		slices.Sort(fields)
		assert.Equal(t, fields, properties, where)
	}
	same("machine", s, reflect.TypeFor[machine.Machine]())
}
