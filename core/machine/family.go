package machine

import (
	"slices"
	"strings"
)

// Families of guests.
const (
	Linux   = "linux"
	Windows = "windows"
	BSD     = "bsd"
)

// families are words that definitions name guests by, by their family.
var families = []struct {
	family string
	words  []string
}{
	{Linux, []string{"linux", "debian", "ubuntu", "fedora", "rhel", "centos", "rocky", "sles", "suse", "alpine", "arch"}},
	{BSD, []string{"bsd"}},
	{Windows, []string{"/win", "windows", " win"}},
}

// Family is the family of a guest that is named somehow, empty where that is not known.
func Family(name string) string {
	name = " " + strings.ToLower(name)
	for _, f := range families {
		if slices.ContainsFunc(f.words, func(w string) bool { return strings.Contains(name, w) }) {
			return f.family
		}
	}
	return ""
}
