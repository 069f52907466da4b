package cli

import (
	"fmt"

	"bagaglio/api"
	"bagaglio/core/step/disks"
	"bagaglio/core/storage/local"

	"github.com/spf13/cobra"
)

func (a *app) held() *cobra.Command {
	return group("held", "What was replaced, and is held for a while", a.heldList(), a.heldRestore(), a.heldClear())
}

func (a *app) heldList() *cobra.Command {
	var in string
	c := &cobra.Command{
		Use: "list", Short: "List what is held in the pools of the service, or in a folder of this computer", Args: exactly(0),
		RunE: func(cmd *cobra.Command, _ []string) error {
			held, err := a.listHeld(cmd, in)
			if err != nil {
				return err
			}
			if a.json {
				return a.printJSON(held)
			}
			rows := [][]string{{"POOL", "ID", "WHAT", "FILE SIZE", "ROOM", "WHY", "SINCE", "UNTIL"}}
			for _, h := range held {
				rows = append(rows, []string{h.Pool, h.Id, h.Path, size(h.Size), size(h.Room), h.Why, when(h.Since), when(h.Until)})
			}
			return table(a.out, rows)
		},
	}
	c.Flags().StringVar(&in, "in", "", "a folder of this computer, for work on the spot")
	a.jsonFlag(c)
	return c
}

func (a *app) listHeld(cmd *cobra.Command, in string) ([]api.Held, error) {
	if in == "" {
		service, err := a.dial()
		if err != nil {
			return nil, err
		}
		return service.Held(cmd.Context())
	}
	folder, err := local.Open(in)
	if err != nil {
		return nil, err
	}
	defer folder.Close()
	held, err := disks.ListHeld(folder)
	out := []api.Held{}
	for _, h := range held {
		out = append(
			out,
			api.Held{Id: h.ID, Pool: in, Path: h.Path, Files: h.Files, Size: h.Size, Room: h.Room, Why: h.Why, Since: h.Since, Until: h.Until},
		)
	}
	return out, err
}

func (a *app) heldRestore() *cobra.Command {
	var swap bool
	c := &cobra.Command{
		Use:   "restore POOL|FOLDER ID",
		Short: "Give what is held its name back",
		Args:  exactly(2),
		Long: `Gives what is held its name back. A folder of this computer begins with /, ./ or ../. Where the name is taken, nothing is done, unless
--swap is given: then what has the name now is held in its place.`,
		RunE: func(cmd *cobra.Command, args []string) error {
			var back api.Held
			if onTheSpot(args[0]) {
				folder, err := local.Open(args[0])
				if err != nil {
					return err
				}
				defer folder.Close()
				h, err := disks.Restore(folder, args[1], swap, disks.HoldFor)
				if err != nil {
					return err
				}
				back = api.Held{Path: h.Path}
				if h.Moved != "" {
					back.Moved = &h.Moved
				}
			} else {
				service, err := a.dial()
				if err != nil {
					return err
				}
				if back, err = service.Restore(cmd.Context(), args[0], args[1], swap); err != nil {
					return err
				}
			}
			if a.json {
				return a.printJSON(back)
			}
			a.remark("%s is back.", back.Path)
			a.remarkMoved(back)
			return nil
		},
	}
	a.jsonFlag(c)
	c.ValidArgsFunction = a.completeHeld
	c.Flags().BoolVar(&swap, "swap", false, "hold in its place what has the name now")
	return c
}

// remarkMoved says what else there is to do when a disk that has moved is back.
func (a *app) remarkMoved(h api.Held) {
	if h.Moved == nil {
		return
	}
	a.remark("It had moved: its copy %s stays. Remove that when nothing needs it any more.", *h.Moved)
	if h.Definitions == nil {
		return
	}
	for _, d := range *h.Definitions {
		a.remark("The definition of %s names the copy. As it was before: bagaglio held restore %s %s --swap", d.Machine, d.Pool, d.ID)
	}
}

func (a *app) heldClear() *cobra.Command {
	var yes bool
	c := &cobra.Command{
		Use: "clear POOL|FOLDER [ID]", Short: "Remove for good what is held, one of it or all, to make room",
		Args: func(_ *cobra.Command, args []string) error {
			if len(args) < 1 || len(args) > 2 {
				return usage("name a pool or folder, and what of it if not all: bagaglio held clear POOL|FOLDER [ID]")
			}
			return nil
		},
		RunE: func(cmd *cobra.Command, args []string) error {
			ids, drop, done, err := a.heldIn(cmd, args[0])
			if err != nil {
				return err
			}
			defer done()
			what := fmt.Sprintf("all that is held in %s (%d)", args[0], len(ids))
			if len(args) == 2 {
				ids, what = args[1:], "what is held as "+args[1]
			}
			if len(ids) == 0 {
				return a.did(map[string]any{"pool": args[0], "removed": []string{}}, "Nothing is held in %s.", args[0])
			}
			switch {
			case yes:
			case !isTerminal(a.in) || !isTerminal(a.notes):
				return usage("there is nobody to ask whether %s is to be removed for good: add --yes", what)
			default:
				if err := a.ask(fmt.Sprintf("Remove %s for good?", what)); err != nil {
					return err
				}
			}
			for _, id := range ids {
				if err := drop(id); err != nil {
					return err
				}
			}
			return a.did(map[string]any{"pool": args[0], "removed": ids}, "Removed: %s.", what)
		},
	}
	a.jsonFlag(c)
	c.ValidArgsFunction = a.completeHeld
	c.Flags().BoolVar(&yes, "yes", false, "do not ask")
	return c
}

// completeHeld offers pools, and then the IDs of what is held in the one that is named.
func (a *app) completeHeld(cmd *cobra.Command, args []string, begun string) ([]string, cobra.ShellCompDirective) {
	if len(args) == 0 {
		return a.completePool(cmd, args, begun)
	}
	if len(args) > 1 || a.configure(cmd) != nil {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	in := ""
	if onTheSpot(args[0]) {
		in = args[0]
	}
	held, err := a.listHeld(cmd, in)
	if err != nil {
		return nil, cobra.ShellCompDirectiveError
	}
	var out []string
	for _, h := range held {
		if h.Pool == args[0] {
			out = append(out, cobra.CompletionWithDesc(h.Id, h.Path+", "+h.Why))
		}
	}
	return out, cobra.ShellCompDirectiveNoFileComp
}

// heldIn finds what is held in a pool, or in a folder of this computer, and how to remove it.
func (a *app) heldIn(cmd *cobra.Command, where string) (ids []string, drop func(string) error, done func(), err error) {
	if onTheSpot(where) {
		folder, err := local.Open(where)
		if err != nil {
			return nil, nil, nil, err
		}
		held, err := disks.ListHeld(folder)
		for _, h := range held {
			ids = append(ids, h.ID)
		}
		return ids, func(id string) error { return disks.DropHeld(folder, id) }, func() { _ = folder.Close() }, err
	}
	service, err := a.dial()
	if err != nil {
		return nil, nil, nil, err
	}
	if _, err := service.Pool(cmd.Context(), where); err != nil {
		return nil, nil, nil, err
	}
	held, err := service.Held(cmd.Context())
	for _, h := range held {
		if h.Pool == where {
			ids = append(ids, h.Id)
		}
	}
	return ids, func(id string) error { return service.DropHeld(cmd.Context(), where, id) }, func() {}, err
}
