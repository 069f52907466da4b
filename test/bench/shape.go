package main

import (
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"time"
)

// shapes measures what should not depend on the virtual size, and what several jobs at once lose. Each time is the median of runs.
func shapes(b *bench, runs int) error {
	fmt.Printf("\n%-44s %8s %9s\n", "raw to qcow2, proven", "seconds", "peak MiB")
	var full float64
	for _, s := range []struct {
		title         string
		virtual, data int64
	}{
		{"1 GiB with 64 MiB of data", 1 << 30, 64 << 20}, {"64 GiB with 64 MiB of data", 64 << 30, 64 << 20}, {"1 TiB with 64 MiB of data", 1 << 40, 64 << 20},
		{"15 TiB with 64 MiB of data", 15 << 40, 64 << 20}, {"655 MiB full of data", 655 << 20, 655 << 20}, {"64 GiB, 1 % full (655 MiB)", 64 << 30, 655 << 20},
	} {
		if err := scatter(b.source, s.virtual, s.data); err != nil {
			return err
		}
		var r result
		for range runs {
			if err := once(b.proven("out"), false, &r); err != nil {
				return err
			}
		}
		m := median(r.seconds)
		fmt.Printf("%-44s %8.2f %9d\n", s.title, m, r.peak>>20)
		if s.virtual == s.data {
			full = m
		} else if s.data == 655<<20 {
			fmt.Printf("%-44s %8.2f\n", "  of the full one", m/full)
		}
	}
	return together(b, runs)
}

// proven is the conversion of the source to qcow2 with proof.
func (b *bench) proven(name string) way {
	out := filepath.Join(b.dir, name+".qcow2")
	return way{name, []string{b.binary, "convert", b.source, out, "--json"}, out + "*", b.source}
}

// scatter makes a disk with random data in pieces of a MiB, spread evenly.
func scatter(name string, virtual, data int64) error {
	if err := os.RemoveAll(name); err != nil {
		return err
	}
	f, err := os.Create(name)
	if err != nil {
		return err
	}
	p := make([]byte, 1<<20)
	r := rand.NewChaCha8([32]byte{1})
	pieces := data >> 20
	for i := range pieces {
		_, _ = r.Read(p) // never fails
		at := virtual / pieces * i >> 20 << 20
		if _, err := f.WriteAt(p, at); err != nil {
			return errors.Join(err, f.Close())
		}
	}
	return errors.Join(f.Truncate(virtual), f.Close())
}

// together runs 1, 2 and 4 conversions at once, each of its own source.
func together(b *bench, runs int) error {
	const each = 512 << 20
	fmt.Printf("\n%-44s %8s %8s\n", "conversions at once, 512 MiB each", "seconds", "MiB/s")
	for _, n := range []int{1, 2, 4} {
		var seconds []float64
		for range runs {
			s, err := b.atOnce(n, each)
			if err != nil {
				return err
			}
			seconds = append(seconds, s)
		}
		m := median(seconds)
		fmt.Printf("%-44d %8.2f %8.0f\n", n, m, float64(n)*(each>>20)/m)
	}
	return nil
}

func (b *bench) atOnce(n int, each int64) (float64, error) {
	var ways []way
	for i := range n {
		one := *b
		one.source = filepath.Join(b.dir, fmt.Sprintf("at-once-%d.raw", i))
		if err := fill(one.source, each, false); err != nil {
			return 0, err
		}
		ways = append(ways, one.proven(fmt.Sprintf("at-once-%d", i)))
	}
	for _, w := range ways {
		if err := settle(w.in, false); err != nil {
			return 0, err
		}
	}
	start := time.Now()
	var group sync.WaitGroup
	problems := make([]error, n)
	for i, w := range ways {
		group.Go(func() {
			cmd := exec.Command(w.args[0], w.args[1:]...)
			var notes strings.Builder
			cmd.Stdout, cmd.Stderr = io.Discard, &notes
			if err := cmd.Run(); err != nil {
				problems[i] = fmt.Errorf("%w\n%s", err, notes.String())
			}
		})
	}
	group.Wait()
	took := time.Since(start).Seconds()
	return took, errors.Join(append(problems, remove(filepath.Join(b.dir, "at-once-*")))...)
}
