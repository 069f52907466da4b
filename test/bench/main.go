// Command bench measures conversions against cp and sync of the same file, in the same run and on the same filesystem,
// and prints the ratios (docs/performance.md).
package main

import (
	"crypto/rand"
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

	"bagaglio/core/disk"
	_ "bagaglio/core/disk/all"

	"golang.org/x/sys/unix"
)

// way is one thing to measure: a command that makes out from the source.
type way struct {
	name string
	args []string
	out  string
}

type result struct {
	seconds []float64
	peak    int64 // bytes
}

func main() {
	log.SetFlags(0)
	binary := flag.String("bagaglio", "bin/bagaglio", "the binary to measure")
	dir := flag.String("dir", "", "where to work (default: a temporary folder)")
	size := flag.Int64("mib", 2048, "size of the source in MiB")
	runs := flag.Int("runs", 5, "how often each is measured")
	formats := flag.String("formats", "", "only these, separated by commas")
	cache := flag.String("cache", "out,in", "where the source is: out of the page cache, in it, or both in turn")
	flag.Parse()
	if err := bench(*binary, *dir, *size<<20, *runs, strings.Split(*formats, ","), strings.Split(*cache, ",")); err != nil {
		log.Fatal(err)
	}
}

func bench(binary, dir string, size int64, runs int, formats, caches []string) error {
	binary, err := filepath.Abs(binary)
	if err != nil {
		return err
	}
	if dir, err = os.MkdirTemp(dir, "bagaglio-bench-"); err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	src := filepath.Join(dir, "source.raw")
	if err := fill(src, size); err != nil {
		return err
	}
	ways := list(binary, src, dir, formats)
	for _, cache := range caches {
		warm := cache == "in"
		results := make([]result, len(ways))
		for range runs {
			for i, w := range ways { // in turns, so that a slow minute hits all
				if err := once(w, src, warm, &results[i]); err != nil {
					return fmt.Errorf("%s: %w", w.name, err)
				}
			}
		}
		report(ways, results, size, warm)
	}
	return nil
}

func list(binary, src, dir string, formats []string) []way {
	out := filepath.Join(dir, "copy.raw")
	ways := []way{{"cp and sync", []string{"sh", "-c", "cp --reflink=never --sparse=never " + src + " " + out + " && sync " + out}, out}}
	for _, f := range disk.Formats() {
		if formats[0] != "" && !slices.Contains(formats, f.Name) {
			continue
		}
		for _, l := range f.Layouts {
			for _, proof := range []string{"unproven", "proven"} {
				out := filepath.Join(dir, "out-"+l.Name+f.Extensions[0])
				args := []string{binary, "convert", src, out, "--as", f.Name, "--layout", l.Name, "--json"}
				if proof == "unproven" {
					args = append(args, "--no-proof")
				}
				ways = append(ways, way{fmt.Sprintf("%s, %s, %s", f.Name, l.Name, proof), args, out})
			}
		}
	}
	return ways
}

func once(w way, src string, warm bool, r *result) error {
	if err := settle(src, warm); err != nil {
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
	return os.Remove(w.out)
}

// settle waits until nothing is left to write, and puts the source into the page cache or out of it.
func settle(src string, warm bool) error {
	unix.Sync()
	f, err := os.Open(src)
	if err != nil {
		return err
	}
	defer f.Close()
	if warm {
		_, err = io.Copy(io.Discard, f)
		return err
	}
	return unix.Fadvise(int(f.Fd()), 0, 0, unix.FADV_DONTNEED)
}

func fill(name string, size int64) error {
	f, err := os.Create(name)
	if err != nil {
		return err
	}
	if _, err := io.CopyN(f, rand.Reader, size); err != nil {
		return err
	}
	return f.Close()
}

func report(ways []way, results []result, size int64, warm bool) {
	fmt.Printf("\n%d MiB of random data, source %s the page cache\n", size>>20, map[bool]string{true: "in", false: "not in"}[warm])
	fmt.Printf("%-28s %8s %8s %10s %10s\n", "", "seconds", "MiB/s", "of cp", "peak MiB")
	base := median(results[0].seconds)
	for i, w := range ways {
		m := median(results[i].seconds)
		fmt.Printf("%-28s %8.2f %8.0f %10.2f %10d\n", w.name, m, float64(size>>20)/m, m/base, results[i].peak>>20)
	}
}

func median(v []float64) float64 {
	v = slices.Sorted(slices.Values(v))
	return v[len(v)/2]
}
