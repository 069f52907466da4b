package main

import (
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
)

// devices measures the capture of a disk of 100 GiB that has one filesystem with as much data as the source, against copying that.
func devices(b *bench, runs int) (err error) {
	if os.Getuid() != 0 {
		fmt.Println("\nThe capture of a disk is not measured: making one takes root.")
		return nil
	}
	if err := fill(b.source, b.size, false); err != nil {
		return err
	}
	file, at := filepath.Join(b.dir, "drive"), filepath.Join(b.dir, "mounted")
	run := func(name string, args ...string) (string, error) {
		out, err := exec.Command(name, args...).CombinedOutput()
		if err != nil {
			err = fmt.Errorf("%s %s: %w: %s", name, strings.Join(args, " "), err, out)
		}
		return strings.TrimSpace(string(out)), err
	}
	if err := errors.Join(os.WriteFile(file, nil, 0o600), os.Truncate(file, 100<<30), os.MkdirAll(at, 0o700)); err != nil {
		return err
	}
	if _, err := run("mkfs.ext4", "-q", "-F", file); err != nil {
		return err
	}
	if _, err := run("mount", "-o", "loop", file, at); err != nil {
		fmt.Printf("\nThe capture of a disk is not measured: %v\n", err)
		return nil
	}
	_, err = run("cp", b.source, filepath.Join(at, "data"))
	if _, unmountErr := run("umount", at); err != nil || unmountErr != nil {
		return errors.Join(err, unmountErr)
	}
	device, err := run("losetup", "--find", "--show", "--direct-io=on", file) // there is no page cache below a disk
	if err != nil {
		return err
	}
	defer func() {
		_, detachErr := run("losetup", "--detach", device)
		err = errors.Join(err, detachErr)
	}()
	copied, out := filepath.Join(b.dir, "copy.raw"), filepath.Join(b.dir, "out.qcow2")
	ways := []way{
		{copying, []string{"sh", "-c", "cp --reflink=never --sparse=never " + b.source + " " + copied + " && sync " + copied}, copied, b.source},
		{"capture, unproven", []string{b.binary, "capture", device, out, "--no-proof", "--yes", "--json"}, out + "*", file},
		{"capture, proven", []string{b.binary, "capture", device, out, "--yes", "--json"}, out + "*", file},
	}
	results := make([]result, len(ways))
	for range runs {
		for i, w := range ways {
			if err := once(w, false, &results[i]); err != nil {
				return fmt.Errorf("%s: %w", w.name, err)
			}
		}
	}
	fmt.Printf("\nA disk of 100 GiB with one ext4 that has a file of %d MiB, against copying that file\n", b.size>>20)
	report(ways, results, b.size)
	return nil
}
