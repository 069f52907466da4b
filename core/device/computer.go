package device

import (
	"path"
	"strconv"
	"strings"
)

// Computer is what a computer has, as far as a machine in its place needs to know it.
type Computer struct {
	Name       string
	Processors int
	Memory     int64 // bytes
	// Addresses are those of its network cards, virtual ones not counted.
	Addresses []string
	UEFI      bool // it was started by that
}

// mostCards bounds how many network cards are told.
const mostCards = 8

// Describe tells of a computer, by the kernel's own files (its documentation of /proc, and of /sys/class/net). What is not told stays empty.
func Describe(s System) Computer {
	c := Computer{Name: word(s, "/proc/sys/kernel/hostname")}
	if b, err := s.ReadFile("/proc/cpuinfo"); err == nil {
		for line := range strings.Lines(string(b)) {
			if name, _, _ := strings.Cut(line, ":"); strings.TrimSpace(name) == "processor" {
				c.Processors++
			}
		}
	}
	if b, err := s.ReadFile("/proc/meminfo"); err == nil {
		for line := range strings.Lines(string(b)) {
			if words := strings.Fields(line); len(words) >= 2 && words[0] == "MemTotal:" {
				if n, err := strconv.ParseInt(words[1], 10, 64); err == nil && n < 1<<50 {
					c.Memory = n << 10
				}
			}
		}
	}
	const cards = "/sys/class/net"
	names, err := s.ReadDir(cards)
	if err != nil {
		names = nil
	}
	for _, name := range names {
		at := path.Join(cards, name)
		if _, err := s.ReadDir(at + "/device"); err == nil && len(c.Addresses) < mostCards { // it is of hardware
			if address := word(s, at+"/address"); address != "" {
				c.Addresses = append(c.Addresses, address)
			}
		}
	}
	_, err = s.ReadDir("/sys/firmware/efi")
	c.UEFI = err == nil
	return c
}
