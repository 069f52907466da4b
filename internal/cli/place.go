package cli

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"bagaglio/api"
	"bagaglio/client"
	"bagaglio/core/plan"
	"bagaglio/core/storage"
	"bagaglio/core/storage/blocks"
	"bagaglio/core/storage/local"

	"github.com/spf13/cobra"
)

// onTheSpot tells whether an argument is a path of this computer rather than a disk in a pool.
func onTheSpot(arg string) bool {
	if filepath.VolumeName(arg) != "" { // a drive, of a system that has such
		return true
	}
	arg = filepath.ToSlash(arg)
	return arg == "." || arg == ".." || strings.HasPrefix(arg, "/") || strings.HasPrefix(arg, "./") || strings.HasPrefix(arg, "../")
}

// place reads the name of a disk.
func place(arg string) (plan.Place, error) {
	if onTheSpot(arg) {
		if real, err := filepath.EvalSymlinks(arg); err == nil && filepath.Dir(real) == blocks.Path {
			return plan.Place{Pool: plan.DevicesOf(""), Path: filepath.Base(real), Format: "raw"}, nil
		}
		return plan.Place{Path: filepath.ToSlash(arg)}, nil
	}
	pool, path, ok := strings.Cut(arg, ":")
	if !ok || pool == "" || path == "" {
		return plan.Place{}, usage("%q names no disk: write POOL:PATH, or begin a path of this computer with ./ or /", arg)
	}
	if name, ok := strings.CutPrefix(path, blocks.Path+"/"); ok {
		return plan.Place{Pool: plan.DevicesOf(pool), Path: name, Format: "raw"}, nil
	}
	return plan.Place{Pool: pool, Path: path}, nil
}

// spotFolder opens the folder of a path of this computer, and returns the name of the file in it.
func spotFolder(path string) (storage.Folder, string, error) {
	// A link that the user names is followed; those in the folder are not, when they lead out of it.
	if real, err := filepath.EvalSymlinks(path); err == nil {
		path = real
	}
	dir, name := filepath.Split(filepath.Clean(path))
	if dir == "" {
		dir = "."
	}
	if info, err := os.Stat(dir); err != nil && errors.Is(err, fs.ErrNotExist) {
		return nil, "", fmt.Errorf("there is no folder %s: make it first", dir)
	} else if err == nil && !info.IsDir() {
		return nil, "", fmt.Errorf("%s is not a folder", dir)
	}
	folder, err := local.Open(dir)
	return folder, name, err
}

// completeDisk offers pools, then the disks in them; a path is completed by the shell.
func (a *app) completeDisk(cmd *cobra.Command, _ []string, begun string) ([]string, cobra.ShellCompDirective) {
	if onTheSpot(begun) {
		return nil, cobra.ShellCompDirectiveDefault
	}
	if a.configure(cmd) != nil {
		return nil, cobra.ShellCompDirectiveError
	}
	service, err := a.dial()
	if err != nil {
		return nil, cobra.ShellCompDirectiveError
	}
	pool, _, inPool := strings.Cut(begun, ":")
	if !inPool {
		return names(cmd.Context(), service, ":"), cobra.ShellCompDirectiveNoSpace
	}
	list, err := service.ListDisks(cmd.Context(), pool, api.ListDisksParams{Limit: ptr(1000)})
	if err != nil {
		return nil, cobra.ShellCompDirectiveError
	}
	var out []string
	for _, d := range list.Items {
		out = append(out, pool+":"+d.Path)
	}
	return out, cobra.ShellCompDirectiveNoFileComp
}

func names(ctx context.Context, service *client.Service, after string) []string {
	pools, err := service.Pools(ctx)
	if err != nil {
		return nil
	}
	var out []string
	for _, p := range pools {
		out = append(out, p.Name+after)
	}
	return out
}
