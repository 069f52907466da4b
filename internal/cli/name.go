package cli

import (
	"strings"

	"bagaglio/api"
	"bagaglio/client"

	"github.com/spf13/cobra"
)

func (a *app) name() *cobra.Command {
	var note string
	c := &cobra.Command{
		Use:   "name POOL:DISK [NAME]",
		Short: "Say what people call a disk, and note something on it",
		Long: `Says what people call a disk, which may be called otherwise by the rules of its pool, and notes something on it. Both are kept in its tag, or in
the records where it has none, go along wherever it is copied, moved or converted to, are shown in lists, and found by searching. Without a name it is called nothing.`,
		Example:           `  bagaglio name lamp-room:5b1f0c2e.vhd "crew roster, system" --note "ask the purser before changing anything"`,
		Args:              between(1, 2),
		ValidArgsFunction: a.completeDisk,
		RunE: a.withService(func(cmd *cobra.Command, service *client.Service, args []string) error {
			at, err := place(args[0])
			if err != nil {
				return err
			}
			if at.Pool == "" {
				return usage("%q lies in no pool", args[0])
			}
			called := strings.Join(args[1:], "")
			if err := service.NameDisk(cmd.Context(), at.Pool, at.Path, api.DiskName{Called: &called, Note: &note}); err != nil {
				return err
			}
			return a.did(map[string]any{"disk": at, "called": called, "note": note}, "%s is called %q.", at, called)
		}),
	}
	c.Flags().StringVar(&note, "note", "", "a note on it")
	a.jsonFlag(c)
	return c
}
