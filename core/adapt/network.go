package adapt

import (
	"fmt"
	"path"
	"regexp"
	"slices"
	"strings"

	"bagaglio/core/inspect"
)

// What says how the network of a system is set up, by folders and files below its root.
var (
	interfacesFiles = []string{"etc/network/interfaces"} // interfaces(5), with all in interfaces.d
	interfacesDir   = "etc/network/interfaces.d"
	networkDirs     = []string{
		"etc/netplan", "etc/NetworkManager/system-connections", "etc/systemd/network", "etc/sysconfig/network-scripts", "etc/sysconfig/network",
		"etc/network/interfaces.d",
	}
	rulesDir = "etc/udev/rules.d" // old rules that give cards names by their addresses
)

// linkFile gives a card its name (systemd.link(5)).
const linkFile = "etc/systemd/network/10-new-place-%s.link"

// cardName are the names of cards: those that they had once, and those by where they are (systemd.net-naming-scheme(7)).
var cardName = regexp.MustCompile(`^(eth\d+|en[ops]\w+|enx[0-9a-f]{12})$`)

// cardAddress is an address of a card, in whatever case it is written.
var cardAddress = regexp.MustCompile(`(?i)\b[0-9a-f]{2}(?::[0-9a-f]{2}){5}\b`)

// network binds what is set up to the new cards: where addresses are named, the new ones are, and a card gets the name that its settings go by.
func (f *finder) network(root inspect.Mounted) {
	if len(f.wish.Cards) == 0 {
		return
	}
	f.addresses(root)
	names := f.cardNames(root)
	switch {
	case len(names) == 0:
	case len(names) > 1 || len(f.wish.Cards) > 1:
		f.left(
			fmt.Sprintf("Which of the cards of the new machine are %s is not known: their names may be others there.", strings.Join(names, ", ")),
			"Look at its network when it runs, and set it up by the addresses of its cards.",
		)
	case len(root.Names("usr/lib/systemd"))+len(root.Names("lib/systemd")) == 0:
		f.left(fmt.Sprintf("Its network is set up for the card %s, and nothing that gives cards names is found in the system.", names[0]),
			"Look at its network when it runs.")
	default:
		now := strings.ToLower(f.wish.Cards[0].Now)
		text := fmt.Sprintf("[Match]\nMACAddress=%s\n\n[Link]\nName=%s\n", now, names[0])
		name := fmt.Sprintf(linkFile, names[0])
		if was := root.Text(name); was != text {
			f.write(
				root,
				name,
				fmt.Sprintf("so that the card with the address %s is %s, for which its network is set up", now, names[0]),
				bytesOf(was),
				[]byte(text),
			)
		}
	}
}

// bytesOf is a text that there is, nil for none.
func bytesOf(text string) []byte {
	if text == "" {
		return nil
	}
	return []byte(text)
}

// settings are the files that set up the network.
func settings(root inspect.Mounted) (all []string) {
	for _, name := range interfacesFiles {
		if root.Exists(name) {
			all = append(all, name)
		}
	}
	for _, dir := range networkDirs {
		for _, name := range root.Names(dir) {
			if name = path.Join(dir, name); root.Exists(name) {
				all = append(all, name)
			}
		}
	}
	return all
}

// addresses has files name the new addresses of cards where they name the old ones, and sets aside rules that would give names to cards that are gone.
func (f *finder) addresses(root inspect.Mounted) {
	for _, name := range settings(root) {
		f.edit(root, name, "so that it is for the card that the machine has now", func(line string) string {
			return cardAddress.ReplaceAllStringFunc(line, func(was string) string {
				i := slices.IndexFunc(f.wish.Cards, func(c Card) bool { return strings.EqualFold(c.Was, was) && !strings.EqualFold(c.Now, was) })
				if i < 0 {
					return was
				}
				return strings.ToLower(f.wish.Cards[i].Now)
			})
		})
	}
	for _, name := range root.Names(rulesDir) {
		if !strings.HasSuffix(name, "persistent-net.rules") {
			continue
		}
		text := strings.ToLower(root.Text(path.Join(rulesDir, name)))
		stays := slices.ContainsFunc(f.wish.Cards, func(c Card) bool { return strings.Contains(text, strings.ToLower(c.Now)) })
		if strings.Contains(text, "attr{address}==") && !stays {
			f.add(
				root,
				Change{Path: path.Join(rulesDir, name), How: Removes, Why: "since it gives names to cards that the machine does not have any more"},
			)
		}
	}
}

// cardNames are the names of cards that are set up.
func (f *finder) cardNames(root inspect.Mounted) (all []string) {
	add := func(name string) {
		name = strings.Trim(strings.TrimSuffix(strings.TrimSpace(name), ":"), `"'`)
		if cardName.MatchString(name) && !slices.Contains(all, name) {
			all = append(all, name)
		}
	}
	for _, name := range settings(root) {
		text := root.Text(name)
		for line := range strings.Lines(text) {
			words := strings.Fields(line)
			switch {
			case len(words) == 0 || strings.HasPrefix(words[0], "#"):
			case (name == interfacesFiles[0] || strings.HasPrefix(name, interfacesDir+"/")) && len(words) > 1:
				if words[0] == "iface" {
					add(words[1])
				}
			case strings.HasPrefix(name, "etc/netplan/") && strings.HasSuffix(words[0], ":"):
				add(words[0])
			default:
				for _, key := range []string{"interface-name=", "Name=", "DEVICE="} {
					if value, ok := strings.CutPrefix(strings.TrimSpace(line), key); ok {
						add(value)
					}
				}
			}
		}
	}
	return all
}
