package cli

import "github.com/spf13/cobra"

// examples show how the commands are used that have none of their own, in the world of the demo, by the words that call them.
var examples = map[string]string{
	"channel list":          "channel list",
	"consent list":          "consent list",
	"porter list":           "porter list",
	"porter lines":          "porter lines",
	"console":               "console",
	"demo":                  "demo --stay",
	"device list":           "device list",
	"device show":           "device show /dev/sdb",
	"fingerprint":           "fingerprint quay-store:ticketing.raw",
	"group answer":          "group answer 3 again",
	"group cancel":          "group cancel 3",
	"group list":            "group list",
	"group pause":           "group pause 3",
	"group resume":          "group resume 3",
	"group show":            "group show 3",
	"held clear":            "held clear seabag",
	"held list":             "held list",
	"held restore":          "held restore lighthouse-store 1f0c9a2e --swap",
	"host add":              "host add lighthouse lighthouse.example --user keeper --key file:/home/keeper/.ssh/id_ed25519",
	"host change":           "host change lighthouse --runs libvirt --socket /run/libvirt/libvirt-sock",
	"host list":             "host list",
	"host remove":           "host remove lighthouse",
	"host storage":          "host storage lighthouse",
	"host test":             "host test lighthouse",
	"host trust":            "host trust lighthouse",
	"job again":             "job again 12 --wait",
	"job answer":            "job answer 12 again",
	"job cancel":            "job cancel 12",
	"job follow":            "job follow 12",
	"job list":              "job list",
	"job pause":             "job pause 12",
	"job receipt":           "job receipt 12",
	"job resume":            "job resume 12",
	"job show":              "job show 12",
	"job undo":              "job undo 12 --plan",
	"lease free":            "lease free 12",
	"lease list":            "lease list",
	"limit list":            "limit list",
	"log":                   "log --with lighthouse-store",
	"look":                  "look quay-store:ticketing.raw",
	"machine add":           "machine add quay quay-store:tide-board.raw",
	"machine check":         "machine check lighthouse",
	"machine forget":        "machine forget quay:cargo-ledger",
	"machine list":          "machine list",
	"machine screen":        "machine screen lighthouse:ticketing screen.png",
	"machine show":          "machine show quay:ticketing",
	"machine snapshot drop": "machine snapshot drop quay:crew-roster before-the-season",
	"machine snapshot list": "machine snapshot list quay:crew-roster",
	"machine start":         "machine start quay:tide-board",
	"machine stop":          "machine stop quay:tide-board",
	"now":                   "now",
	"person list":           "person list",
	"pool add":              "pool add quay-store /srv/quay",
	"pool disks":            "pool disks quay-store --refresh",
	"pool drain":            "pool drain quay-store lighthouse-store --plan",
	"pool list":             "pool list",
	"rebuild":               "rebuild /srv/quay /srv/lighthouse --plan",
	"pool look":             "pool look quay-store",
	"pool orphans":          "pool orphans quay-store",
	"pool remove":           "pool remove seabag",
	"pool show":             "pool show quay-store",
	"pool spread":           "pool spread quay-store lighthouse-store --plan",
	"pool test":             "pool test lighthouse-store",
	"prove":                 "prove lighthouse-store:ticketing.vhd",
	"receipt check":         "receipt check --key /media/seabag/receipts.jwk",
	"routine list":          "routine list",
	"serve":                 "serve --listen 0.0.0.0:2247 --own-authority --name quay.example",
	"session list":          "session list",
	"take":                  "take quay-store:crew-roster.raw 1:crew.csv ./crew.csv",
	"token list":            "token list",
	"token revoke":          "token revoke night-watch",
	"version":               "version",
}

// withExamples gives the commands their examples.
func withExamples(root *cobra.Command) {
	for _, c := range root.Commands() {
		if words, ok := examples[c.CommandPath()[len("bagaglio "):]]; ok {
			c.Example = "  bagaglio " + words
		}
		withExamples(c)
	}
}
