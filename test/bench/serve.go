package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"sync"
	"time"

	"bagaglio/core/nbd"

	"golang.org/x/sys/unix"
)

// readers is how many requests are under way at once when a served disk is read, and readAtOnce how much each asks for, in bytes.
const readers, readAtOnce = 4, 1 << 20

// serves measures reading a disk over the open block protocol against reading its file, both in the page cache and as far as it is not, in turn.
func serves(b *bench, runs int) error {
	file, socket := filepath.Join(b.dir, "served.raw"), filepath.Join(b.dir, "served.sock")
	if err := fill(file, b.size, false); err != nil {
		return err
	}
	cmd := exec.Command(b.binary, "disk", "serve", file, "--socket", socket)
	if err := cmd.Start(); err != nil {
		return err
	}
	defer func() { _ = cmd.Process.Signal(os.Interrupt); _ = cmd.Wait() }()
	fmt.Printf("\n%-60s %10s\n", fmt.Sprintf("reading a disk of %d MiB that is served, median", b.size>>20), "ratio")
	for _, warm := range []bool{false, true} {
		var plain, served []float64
		for range runs {
			for _, way := range []struct {
				read func() error
				took *[]float64
			}{{func() error { return readFile(file) }, &plain}, {func() error { return readServed(socket) }, &served}} {
				if err := settle(file, warm); err != nil {
					return err
				}
				begin := time.Now()
				if err := way.read(); err != nil {
					return err
				}
				*way.took = append(*way.took, time.Since(begin).Seconds())
			}
		}
		from := map[bool]string{false: "from the drive", true: "from memory"}[warm]
		fmt.Printf("%-60s %10.2f\n", fmt.Sprintf("speed over the protocol to that of the file, %s", from), median(plain)/median(served))
	}
	return os.Remove(file)
}

func readFile(name string) error {
	f, err := os.Open(name)
	if err != nil {
		return err
	}
	_ = unix.Fadvise(int(f.Fd()), 0, 0, unix.FADV_SEQUENTIAL) // a hint
	buffer := make([]byte, readAtOnce)
	for err == nil {
		_, err = f.Read(buffer)
	}
	if errors.Is(err, io.EOF) {
		err = nil
	}
	return errors.Join(err, f.Close())
}

// readServed reads all of a disk that is served.
func readServed(socket string) error {
	var conn net.Conn
	var err error
	for range 500 { // it may just be starting
		if conn, err = net.Dial("unix", socket); err == nil {
			break
		}
		time.Sleep(10 * time.Millisecond)
	}
	if err != nil {
		return err
	}
	d, err := nbd.Connect(context.Background(), conn, "disk", nil)
	if err != nil {
		return err
	}
	defer d.Close()
	next := make(chan int64)
	var group sync.WaitGroup
	failed := make([]error, readers)
	for i := range readers {
		group.Go(func() {
			buffer := make([]byte, readAtOnce)
			for off := range next {
				if _, err := d.ReadAt(buffer[:min(readAtOnce, d.Size()-off)], off); err != nil {
					failed[i] = err
				}
			}
		})
	}
	for off := int64(0); off < d.Size(); off += readAtOnce {
		next <- off
	}
	close(next)
	group.Wait()
	return errors.Join(failed...)
}
