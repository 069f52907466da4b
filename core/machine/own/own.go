// Package own reads and writes our own definitions: a file NAME.machine.yaml that lies beside the disks of a machine. It says all that a Machine
// does, under the same names (docs/machine.schema.json), and keeps what it does not know.
package own

import (
	"bytes"
	"encoding/json"
	"fmt"
	"reflect"
	"strings"

	"bagaglio/core/machine"

	"go.yaml.in/yaml/v3"
)

// Name is that of the format, and Extension that of its files.
const (
	Name      = "machine-file"
	Extension = ".machine.yaml"
)

// form is the key of the version of the form, and version that which is written.
const (
	form    = "machine_file"
	version = 1
)

func init() {
	machine.Register(machine.Format{
		Name:       Name,
		Extension:  Extension,
		Read:       read,
		Follow:     follow,
		Describe:   describe,
		Rewrite:    rewrite,
		Write:      write,
		AnyImage:   true,
		Containers: true,
	})
}

// decode reads the whole file. Aliases of YAML are refused: a small text could become a large one by them.
func decode(text []byte) (values map[string]any, m machine.Machine, err error) {
	other := func(why any) error { return fmt.Errorf("%w: %v", machine.ErrOther, why) }
	var tree yaml.Node
	if err := yaml.Unmarshal(text, &tree); err != nil {
		return nil, m, other(err)
	}
	if hasAlias(&tree) {
		return nil, m, other("it has aliases")
	}
	if err := tree.Decode(&values); err != nil {
		return nil, m, other(err)
	}
	if values[form] != version {
		return nil, m, other(fmt.Sprintf("it does not begin with %s: %d", form, version))
	}
	b, err := json.Marshal(values)
	if err != nil {
		return nil, m, other(err)
	}
	if err := json.Unmarshal(b, &m); err != nil {
		return nil, m, other(err)
	}
	return values, m, nil
}

func hasAlias(n *yaml.Node) bool {
	if n.Kind == yaml.AliasNode {
		return true
	}
	for _, c := range n.Content {
		if hasAlias(c) {
			return true
		}
	}
	return false
}

func read(text []byte) (machine.Definition, error) {
	_, m, err := decode(text)
	d := machine.Definition{Name: m.Name}
	for _, disk := range m.Disks {
		d.Disks = append(d.Disks, disk.File)
	}
	return d, err
}

func describe(text []byte) (machine.Machine, error) {
	_, m, err := decode(text)
	if m.Disks == nil {
		m.Disks = []machine.Disk{}
	}
	return m.Shown(), err
}

func follow(text []byte, c machine.Change) ([]byte, error) {
	_, m, err := decode(text)
	if err != nil {
		return nil, err
	}
	for i, d := range m.Disks {
		if to, ok := c.Names[d.File]; ok {
			m.Disks[i].File = to
			if c.Format != "" {
				m.Disks[i].Format = c.Format
			}
		}
	}
	return rewrite(text, m)
}

// rewrite writes a machine with what else the old text says.
func rewrite(text []byte, m machine.Machine) ([]byte, error) {
	values, _, err := decode(text)
	if err != nil {
		return nil, err
	}
	return encode(m.Slotted(), values)
}

func write(m machine.Machine) ([]byte, error) { return encode(m.Slotted(), nil) }

// fields are the keys of a machine.
var fields = func() map[string]bool {
	all := map[string]bool{}
	for _, f := range reflect.VisibleFields(reflect.TypeFor[machine.Machine]()) {
		name, _, _ := strings.Cut(f.Tag.Get("json"), ",")
		all[name] = true
	}
	return all
}()

// encode writes a machine in the order of its fields, and behind that what is not of a machine.
func encode(m machine.Machine, rest map[string]any) ([]byte, error) {
	b, err := json.Marshal(m)
	if err != nil {
		return nil, err
	}
	var tree yaml.Node // JSON is YAML, and keeps its order there
	if err := yaml.Unmarshal(b, &tree); err != nil {
		return nil, err
	}
	plain(&tree)
	root := tree.Content[0]
	var head yaml.Node
	if err := head.Encode(map[string]int{form: version}); err != nil {
		return nil, err
	}
	root.Content = append(head.Content, root.Content...)
	left := map[string]any{}
	for key, value := range rest {
		if key != form && !fields[key] {
			left[key] = value
		}
	}
	if len(left) > 0 {
		var tail yaml.Node
		if err := tail.Encode(left); err != nil {
			return nil, err
		}
		root.Content = append(root.Content, tail.Content...)
	}
	var out bytes.Buffer
	e := yaml.NewEncoder(&out)
	e.SetIndent(2)
	if err := e.Encode(&tree); err != nil {
		return nil, err
	}
	return out.Bytes(), e.Close()
}

// plain writes everything in lines.
func plain(n *yaml.Node) {
	n.Style = 0
	if n.Kind == yaml.ScalarNode && n.Tag == "!!str" {
		n.Style = yaml.DoubleQuotedStyle
	}
	for i, c := range n.Content {
		plain(c)
		if n.Kind == yaml.MappingNode && i%2 == 0 {
			c.Style = 0 // a key
		}
	}
}
