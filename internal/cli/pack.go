package cli

import (
	"bagaglio/core/plan"

	"github.com/spf13/cobra"
)

func (a *app) machinePack() *cobra.Command {
	r := plan.Request{Kind: plan.PackMachine}
	c := a.staying(
		&r,
		"pack HOST:NAME POOL:PACKAGE.ova|POOL:FOLDER",
		"Make a package of a machine: one archive, or a folder",
		2,
		func(args []string) error {
			to, err := place(args[1])
			if err == nil && to.Pool == "" {
				err = usage("%q lies in no pool", args[1])
			}
			r.Destination = &to
			return err
		},
	)
	c.Long = `Makes a package of a machine in the open form for that (DSP0243): an envelope that says what it is, its disks, and a manifest with the SHA-256 of each file; as
one archive, or as files in a folder. The archive is written in one go, also over SFTP: nothing of it is written twice. It is read back and compared with the
disks before it gets its name. What an envelope cannot say of the machine is told in the plan.`
	c.Example = `  bagaglio machine pack quay:tide-board seabag:tide-board.ova --stop
  bagaglio machine pack quay:tide-board seabag:packages/tide-board --as qcow2`
	f := c.Flags()
	f.StringVar(&r.As, "as", "", "form of the disks (default: vmdk, stream)")
	f.StringVar(&r.Layout, "layout", "", "layout of that form (default: its first)")
	f.BoolVar(&r.Stop, "stop", false, "shut the machine down first, when it runs, and start it again")
	f.BoolVar(&r.Suspend, "suspend", false, "suspend it while its disks are read: the package is what a power cut would leave")
	return c
}

func (a *app) machineUnpack() *cobra.Command {
	var r plan.Request
	c := a.carryMachine(&r, plan.CopyMachine, "unpack POOL:PACKAGE.ova|POOL:FILE.ovf HOST", "Make a machine of a package, on a host")
	c.Long = `Makes a machine of a package: each file is compared with the manifest, the disks are read where they lie in the archive and proven in their new place, and the machine
is made known to its host. It is machine copy with a package as its source.`
	c.Example = `  bagaglio machine unpack seabag:tide-board.ova lighthouse --pool lamp-room --as qcow2 --start`
	c.Flags().StringVar(&r.Deployment, "deployment", "", "the way in which the package is deployed, where it has several")
	c.Flags().
		StringToStringVar(&r.Properties, "property", nil, "a value of what the package asks for, kept in the notes of the machine: KEY=VALUE")
	return c
}
