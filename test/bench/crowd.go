package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"bagaglio/api"
	"bagaglio/core/plan"
)

// streams is how many follow what happens, and asked how often something is asked for in a second.
const streams, asked = 200, 50

// pages are what is asked for in turn, as the pages of the console do.
var pages = []string{"/v1/jobs", "/v1/needs", "/v1/pools", "/v1/pools/in/disks", "/v1/health", "/v1/groups", "/v1/log"}

// crowd measures what it costs two jobs that run at once when many look on.
func crowd(b *bench, runs int) error {
	return b.withService("crowd", func(s service) error {
		if err := stage(s, b); err != nil {
			return err
		}
		var alone, watched []float64
		var heard int64
		for range runs {
			took, err := both(s, b)
			if err != nil {
				return err
			}
			alone = append(alone, took.Seconds())
			end := lookOn(s, &heard)
			took, err = both(s, b)
			if err := errors.Join(err, end()); err != nil {
				return err
			}
			watched = append(watched, took.Seconds())
		}
		fmt.Printf("\n%-60s %10s\n", fmt.Sprintf("two conversions of %d MiB at once, %d times", b.size>>20, runs), "")
		fmt.Printf("%-60s %10.2f\n", "seconds, median", median(alone))
		fmt.Printf("%-60s %10.2f\n", fmt.Sprintf("likewise while %d follow events, and %d a second ask", streams, asked), median(watched))
		fmt.Printf("%-60s %10.3f\n", "speed of that to that of those alone", median(alone)/median(watched))
		fmt.Printf("%-60s %10d\n", "events that each of them heard", heard/streams/int64(runs))
		return nil
	})
}

// fifths are into how many parts the time of a soak is cut.
const fifths = 5

// soak has jobs run and many look on for a time, and tells what memory the service takes from fifth to fifth: what grows and what is only not collected yet.
func soak(b *bench, lasts time.Duration) error {
	return b.withService("soak", func(s service) error {
		if err := stage(s, b); err != nil {
			return err
		}
		var heard int64
		end := lookOn(s, &heard)
		var most, least [fifths]int64
		jobs := 0
		for begun := time.Now(); time.Since(begun) < lasts; jobs += 2 {
			if _, err := both(s, b); err != nil {
				return errors.Join(err, end())
			}
			now, err := resident(s.process)
			live, liveErr := inUse(s)
			if err = errors.Join(err, liveErr); err != nil {
				return errors.Join(err, end())
			}
			part := min(int(time.Since(begun)*fifths/lasts), fifths-1)
			most[part] = max(most[part], now)
			if least[part] == 0 || live < least[part] {
				least[part] = live
			}
		}
		fmt.Printf("\n%-60s\n", fmt.Sprintf("%v of jobs, %d that follow events, and %d a second that ask: %d jobs", lasts, streams, asked, jobs))
		for what, of := range map[string][fifths]int64{"most memory of the process": most, "least that a collection left in use": least} {
			fmt.Printf("%-40s", what+", MiB")
			for _, n := range of {
				fmt.Printf(" %8.1f", float64(n)/(1<<20))
			}
			fmt.Println()
		}
		return end()
	})
}

// resident is the memory that a process takes, in bytes.
func resident(process int) (n int64, err error) {
	text, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", process))
	if err != nil {
		return 0, err
	}
	_, rest, _ := strings.Cut(string(text), "VmRSS:")
	_, err = fmt.Sscanf(rest, "%d kB", &n)
	return n << 10, err
}

// inUse is what the last collection of garbage left to a service, in bytes.
func inUse(s service) (int64, error) {
	q, err := http.NewRequest(http.MethodGet, s.address+"/metrics", nil)
	if err != nil {
		return 0, err
	}
	q.Header.Set("Authorization", "Bearer "+s.token)
	answer, err := http.DefaultClient.Do(q)
	if err != nil {
		return 0, err
	}
	body, err := io.ReadAll(answer.Body)
	if err = errors.Join(err, answer.Body.Close()); err != nil {
		return 0, err
	}
	_, rest, _ := strings.Cut(string(body), "\ngo_gc_heap_live_bytes ")
	var n float64
	_, err = fmt.Sscan(rest, &n)
	return int64(n), err
}

// stage makes two disks in the pool in, and the pool out.
func stage(s service, b *bench) error {
	for _, pool := range []string{"in", "out"} {
		folder := filepath.Join(b.dir, "crowd-"+pool)
		if err := os.MkdirAll(folder, 0o700); err != nil {
			return err
		}
		if _, err := s.AddPool(context.Background(), api.NewPool{Name: pool, Folder: folder}); err != nil {
			return err
		}
	}
	for _, name := range []string{"a.raw", "b.raw"} {
		if err := fill(filepath.Join(b.dir, "crowd-in", name), b.size, true); err != nil {
			return err
		}
	}
	return nil
}

// both converts both disks at once, and removes what came of it.
func both(s service, b *bench) (took time.Duration, err error) {
	begun := time.Now()
	errs := make(chan error, 2)
	for _, name := range []string{"a", "b"} {
		go func() {
			_, err := does(context.Background(), s, plan.Request{
				Kind: plan.Convert, As: "qcow2", Source: plan.Place{Pool: "in", Path: name + ".raw"},
				Destination: &plan.Place{Pool: "out", Path: name + ".qcow2"},
			}, func(string) {})
			errs <- err
		}()
	}
	err = errors.Join(<-errs, <-errs)
	return time.Since(begun), errors.Join(err, remove(filepath.Join(b.dir, "crowd-out", "*.*")))
}

// lookOn has many follow what happens and ask for it, until the function that it returns ends that. heard counts the events.
func lookOn(s service, heard *int64) (end func() error) {
	ctx, stop := context.WithCancel(context.Background())
	var all sync.WaitGroup
	var events, failed atomic.Int64
	get := func(path string) (*http.Response, error) {
		q, err := http.NewRequestWithContext(ctx, http.MethodGet, s.address+path, nil)
		if err != nil {
			return nil, err
		}
		q.Header.Set("Authorization", "Bearer "+s.token)
		return http.DefaultClient.Do(q)
	}
	for range streams {
		all.Go(func() {
			answer, err := get("/v1/events")
			if err != nil {
				failed.Add(1)
				return
			}
			defer answer.Body.Close()
			for p := make([]byte, 32<<10); err == nil; {
				var n int
				n, err = answer.Body.Read(p)
				events.Add(int64(strings.Count(string(p[:n]), "event: job")))
			}
		})
	}
	all.Go(func() {
		tick := time.NewTicker(time.Second / asked)
		defer tick.Stop()
		for i := 0; ; i++ {
			select {
			case <-ctx.Done():
				return
			case <-tick.C:
			}
			all.Go(func() {
				answer, err := get(pages[i%len(pages)])
				if err == nil {
					_, err = io.Copy(io.Discard, answer.Body)
					err = errors.Join(err, answer.Body.Close())
				}
				if err != nil && ctx.Err() == nil {
					failed.Add(1)
				}
			})
		}
	})
	return func() error {
		stop()
		all.Wait()
		*heard += events.Load()
		if n := failed.Load(); n > 0 {
			return fmt.Errorf("%d calls of those that looked on failed", n)
		}
		return nil
	}
}
