package main

import (
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"syscall"
	"time"
)

// Folders and files in each of the filesystem that is looked at: a million in all.
const folders, filesInEach = 1000, 1000

// files measures what it costs to look at a filesystem of a million files, to list a folder, and to find the file that a block belongs to.
func files(b *bench) error {
	if os.Getuid() != 0 {
		fmt.Println("\nA filesystem of a million files is not measured: making one takes root.")
		return nil
	}
	image, at := filepath.Join(b.dir, "million.raw"), filepath.Join(b.dir, "million")
	if err := errors.Join(os.WriteFile(image, nil, 0o600), os.Truncate(image, 4<<30), os.MkdirAll(at, 0o700)); err != nil {
		return err
	}
	for _, words := range [][]string{{"mkfs.ext4", "-q", "-F", "-b", "1024", "-N", "1100000", image}, {"mount", "-o", "loop", image, at}} {
		if out, err := exec.Command(words[0], words[1:]...).CombinedOutput(); err != nil {
			return fmt.Errorf("%v: %w: %s", words, err, out)
		}
	}
	err := grow(at)
	if out, unmountErr := exec.Command("umount", at).CombinedOutput(); unmountErr != nil {
		return errors.Join(err, fmt.Errorf("umount: %w: %s", unmountErr, out))
	}
	if err != nil {
		return err
	}
	fmt.Printf("\n%-60s %10s %10s\n", "an ext4 of a million files, not in the page cache", "seconds", "peak MiB")
	for _, w := range []way{
		{"looked at, with what it uses", []string{b.binary, "look", image, "--json"}, "", image},
		{"one folder listed", []string{b.binary, "look", image, "--inside", "0:/999"}, "", image},
	} {
		var r result
		if err := once(w, false, &r); err != nil {
			return fmt.Errorf("%s: %w", w.name, err)
		}
		fmt.Printf("%-60s %10.2f %10d\n", w.name, r.seconds[0], r.peak>>20)
	}
	return named(b, image)
}

// grow makes the files.
func grow(at string) error {
	for i := range folders {
		dir := filepath.Join(at, strconv.Itoa(i))
		if err := os.Mkdir(dir, 0o755); err != nil {
			return err
		}
		for j := range filesInEach {
			if err := os.WriteFile(filepath.Join(dir, fmt.Sprintf("roster-%d", j)), []byte("crew"), 0o644); err != nil {
				return err
			}
		}
	}
	return nil
}

// named measures comparing the disk with one that differs in a block of a file, and naming that.
func named(b *bench, image string) error {
	other := filepath.Join(b.dir, "other.raw")
	if out, err := exec.Command("cp", "--sparse=always", image, other).CombinedOutput(); err != nil {
		return fmt.Errorf("copying the image: %w: %s", err, out)
	}
	f, err := os.OpenFile(other, os.O_RDWR, 0)
	if err != nil {
		return err
	}
	_, err = f.WriteAt([]byte("x"), 3<<30+512)
	if err = errors.Join(err, f.Close()); err != nil {
		return err
	}
	for _, w := range [][2]string{{"compared with a disk that is the same", image}, {"and with one of which a block differs, whose file is named", other}} {
		cmd := exec.Command(b.binary, "prove", image, "--against", w[1], "--json")
		begin := time.Now()
		var exit *exec.ExitError
		if err := cmd.Run(); err != nil && !errors.As(err, &exit) {
			return err
		}
		fmt.Printf("%-60s %10.2f %10d\n", w[0], time.Since(begin).Seconds(), cmd.ProcessState.SysUsage().(*syscall.Rusage).Maxrss>>10)
	}
	return nil
}
