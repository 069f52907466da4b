// Package standin is a small simulated host of machines: it keeps them on a list, reads their disks as a computer would that starts from them,
// locks the disks of those that run, shows a screen, and fails as real hosts do. It has an HTTP API of its own, and its folder is reached over
// SFTP. It runs no guest.
package standin

import (
	"fmt"
	"os"
	"slices"
	"strings"

	"bagaglio/core/machine"

	"go.yaml.in/yaml/v3"
)

// Traits are what a host accepts and how it behaves. What is empty is all or nothing of it.
type Traits struct {
	Formats     []string `yaml:"formats"     json:"formats,omitempty"`  // of images
	Layouts     []string `yaml:"layouts"     json:"layouts,omitempty"`  // likewise
	Buses       []string `yaml:"buses"       json:"buses,omitempty"`    // of disks
	Firmware    []string `yaml:"firmware"    json:"firmware,omitempty"` // of machines
	Networks    []string `yaml:"networks"    json:"networks,omitempty"` // that machines are connected to
	Memory      int64    `yaml:"memory"      json:"memory,omitempty"`   // of the host in bytes, for all machines that run
	Folders     bool     `yaml:"folders"     json:"folders,omitempty"`  // disks lie in a folder that is called as their machine
	Maintenance bool     `yaml:"maintenance" json:"maintenance,omitempty"`
	// Drivers are the buses that guests have a driver for.
	Drivers []string `yaml:"drivers" json:"drivers,omitempty"`
	// Asks whether a machine that is new to it was moved or copied, when that is first started.
	Asks bool `yaml:"asks" json:"asks,omitempty"`
	// Looks tells that new files are known only after it was told to look.
	Looks bool `yaml:"looks" json:"looks,omitempty"`
	// Writes has guests write to their first disk all the time, where that stores what they write as it is.
	Writes bool `yaml:"writes" json:"writes,omitempty"`
	// Commands has whoever reaches its files run commands there, with the rights of the user that runs the stand-in.
	Commands bool `yaml:"commands" json:"commands,omitempty"`
	// Layers has it put images on the disks of machines that run, and have their guests go over to others.
	Layers bool `yaml:"layers" json:"layers,omitempty"`
	// Deaf guests do not end when they are asked to.
	Deaf bool `yaml:"deaf" json:"deaf,omitempty"`
}

// ReadTraits reads a file of traits; without a name the host accepts everything.
func ReadTraits(name string) (t Traits, err error) {
	if name == "" {
		return t, nil
	}
	file, err := os.Open(name)
	if err != nil {
		return t, err
	}
	defer file.Close()
	d := yaml.NewDecoder(file)
	d.KnownFields(true)
	if err := d.Decode(&t); err != nil {
		return t, fmt.Errorf("reading the traits in %s: %w", name, err)
	}
	return t, nil
}

// takes tells whether a list has a value, or takes all.
func takes(list []string, value string) bool { return len(list) == 0 || slices.Contains(list, value) }

// refuses says why the host takes no such machine; nil when it does.
func (t Traits) refuses(m machine.Machine) error {
	if !m.Container && !takes(t.Firmware, m.Firmware) {
		return fmt.Errorf("it has no firmware %s, but %v", m.Firmware, t.Firmware)
	}
	for _, n := range m.Networks {
		if n.Kind == "network" && !takes(t.Networks, n.Network) {
			return fmt.Errorf("it has no network %s, but %v", n.Network, t.Networks)
		}
	}
	for _, d := range m.Disks {
		switch {
		case strings.HasPrefix(d.Remote, served) && takes(t.Buses, d.Bus): // tried out, or started before its disk is there
		case d.File == "":
			return fmt.Errorf("the disk %s is no file", d.Slot)
		case !takes(t.Buses, d.Bus):
			return fmt.Errorf("the disk %s is on the bus %s, and it has %v", d.Slot, d.Bus, t.Buses)
		}
	}
	return nil
}
