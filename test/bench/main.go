// Command bench measures conversions against cp and sync of the same file, in the same run and on the same filesystem,
// and prints the ratios (docs/performance.md).
package main

import (
	"crypto/rand"
	"errors"
	"flag"
	"fmt"
	"io"
	"log"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"time"

	_ "bagaglio/core/disk/all"
	_ "bagaglio/core/inspect/all"

	"golang.org/x/sys/unix"
)

type result struct {
	seconds []float64
	peak    int64 // bytes
}

func main() {
	log.SetFlags(0)
	binary := flag.String("bagaglio", "bin/bagaglio", "the binary to measure")
	dir := flag.String("dir", "", "where to work (default: a temporary folder)")
	size := flag.Int64("mib", 2048, "size of the source in MiB")
	runs := flag.Int("runs", 3, "how often each is measured")
	layouts := flag.String("layouts", "", "only these, such as thin,sparse")
	formats := flag.String("formats", "", "only these, separated by commas")
	data := flag.String("data", "random,half", "what is in the source: random data, or half of it zeros, or both in turn, or none")
	cache := flag.String("cache", "out", "where what is read is: out of the page cache, in it, or both in turn (out,in)")
	shape := flag.Bool("shapes", true, "measure also what should not depend on the virtual size, and several jobs at once")
	many := flag.Bool("pools", true, "measure also what ten thousand disks in a pool cost")
	guests := flag.Bool("machines", true, "measure also what listing a hundred machines of a host costs")
	disks := flag.Bool("devices", true, "measure also the capture of a disk")
	served := flag.Bool("serve", true, "measure also reading a disk over the open block protocol")
	writes := flag.Bool("live", true, "measure also the move of the storage of a guest that writes all the time")
	million := flag.Bool("files", true, "measure also what a filesystem of a million files costs")
	watched := flag.Bool("crowd", true, "measure also what it costs jobs that many look on")
	porters := flag.Bool("porters", true, "measure also what porters cost a service that has none")
	lasting := flag.Duration("soak", 0, "instead of all, see for so long whether the service takes more and more memory")
	flag.Parse()
	b := &bench{size: *size << 20}
	if *formats != "" {
		b.formats = strings.Split(*formats, ",")
	}
	if *layouts != "" {
		b.layouts = strings.Split(*layouts, ",")
	}
	err := prepare(b, *binary, *dir)
	if *lasting > 0 {
		if err == nil {
			err = soak(b, *lasting)
		}
		if err = errors.Join(err, os.RemoveAll(b.dir)); err != nil {
			log.Fatal(err)
		}
		return
	}
	for _, kind := range strings.Split(*data, ",") {
		if err == nil && kind != "none" {
			err = measure(b, kind, *runs, strings.Split(*cache, ","))
		}
	}
	if err == nil && *shape {
		err = shapes(b, *runs)
	}
	if err == nil && *watched {
		err = crowd(b, *runs)
	}
	if err == nil && *many {
		err = pools(b)
	}
	if err == nil && *disks {
		err = devices(b, *runs)
	}
	if err == nil && *served {
		err = serves(b, *runs)
	}
	if err == nil && *writes {
		err = live(b)
	}
	if err == nil && *million {
		err = files(b)
	}
	if err == nil && *porters {
		err = overhead(b)
	}
	if err == nil && *guests {
		err = machines(b)
	}
	if err = errors.Join(err, os.RemoveAll(b.dir)); err != nil {
		log.Fatal(err)
	}
}

func prepare(b *bench, binary, dir string) (err error) {
	if b.binary, err = filepath.Abs(binary); err != nil {
		return err
	}
	if b.dir, err = os.MkdirTemp(dir, "bagaglio-bench-"); err != nil {
		return err
	}
	b.source = filepath.Join(b.dir, "source.raw")
	return nil
}

// measure makes the source and takes all ways in turns, so that a slow minute hits all.
func measure(b *bench, data string, runs int, caches []string) error {
	if err := fill(b.source, b.size, data == "half"); err != nil {
		return err
	}
	ways, err := b.list()
	if err != nil {
		return err
	}
	for _, cache := range caches {
		warm := cache == "in"
		results := make([]result, len(ways))
		for range runs {
			for i, w := range ways {
				if err := once(w, warm, &results[i]); err != nil {
					return fmt.Errorf("%s: %w", w.name, err)
				}
			}
		}
		fmt.Printf(
			"\n%d MiB, %s, what is read %s the page cache\n",
			b.size>>20,
			map[string]string{"half": "half of it zeros", "random": "random data"}[data],
			map[bool]string{true: "in", false: "not in"}[warm],
		)
		report(ways, results, b.size)
	}
	return remove(filepath.Join(b.dir, "in-*"))
}

func once(w way, warm bool, r *result) error {
	if err := settle(w.in, warm); err != nil {
		return err
	}
	cmd := exec.Command(w.args[0], w.args[1:]...)
	var notes strings.Builder
	cmd.Stderr = &notes
	start := time.Now()
	if err := cmd.Run(); err != nil {
		return fmt.Errorf("%w\n%s", err, notes.String())
	}
	r.seconds = append(r.seconds, time.Since(start).Seconds())
	r.peak = max(r.peak, cmd.ProcessState.SysUsage().(*syscall.Rusage).Maxrss<<10)
	return remove(w.out)
}

// remove removes the files of a pattern, and folders with what is in them.
func remove(pattern string) error {
	names, err := filepath.Glob(pattern)
	for _, name := range names {
		err = errors.Join(err, os.RemoveAll(name))
	}
	return err
}

// settle waits until nothing is left to write, and puts what will be read into the page cache or out of it.
func settle(pattern string, warm bool) error {
	unix.Sync()
	names, err := filepath.Glob(pattern)
	if err != nil {
		return err
	}
	for _, name := range names {
		err = errors.Join(err, filepath.WalkDir(name, func(name string, d os.DirEntry, err error) error {
			if err != nil || d.IsDir() {
				return err
			}
			f, err := os.Open(name)
			if err != nil {
				return err
			}
			defer f.Close()
			if warm {
				_, err = io.Copy(io.Discard, f)
				return err
			}
			return unix.Fadvise(int(f.Fd()), 0, 0, unix.FADV_DONTNEED)
		}))
	}
	return err
}

// fill writes random data; of every second MiB zeros, when half is to be zeros.
func fill(name string, size int64, half bool) error {
	f, err := os.Create(name)
	if err != nil {
		return err
	}
	const mib = 1 << 20
	p := make([]byte, mib)
	for at := int64(0); at < size; at += mib {
		clear(p)
		if !half || at/mib%2 == 0 {
			_, _ = rand.Read(p) // never fails
		}
		if _, err := f.Write(p); err != nil {
			return errors.Join(err, f.Close())
		}
	}
	return f.Close()
}

func report(ways []way, results []result, size int64) {
	fmt.Printf("%-34s %8s %8s %8s %9s\n", "", "seconds", "MiB/s", "of cp", "peak MiB")
	var copies []float64
	for i, w := range ways {
		if w.name == copying {
			copies = append(copies, results[i].seconds...)
		}
	}
	base := median(copies)
	for i, w := range ways {
		m := median(results[i].seconds)
		fmt.Printf("%-34s %8.2f %8.0f %8.2f %9d\n", w.name, m, float64(size>>20)/m, m/base, results[i].peak>>20)
	}
}

func median(v []float64) float64 {
	v = slices.Sorted(slices.Values(v))
	return v[len(v)/2]
}
