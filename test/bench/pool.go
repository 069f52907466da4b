package main

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"syscall"
	"time"

	"bagaglio/api"
	"bagaglio/client"
	"bagaglio/core/disk"
	"bagaglio/core/storage/local"
)

// Of the pool with many disks: how many there are of each of two formats, how many disks a page has, and how many clients ask for one, for
// how long.
const (
	ofEach  = 5000
	onAPage = 50
	clients = 50
	asking  = 5 * time.Second
)

// pools measures what many disks in one pool cost.
func pools(b *bench) error {
	dir := filepath.Join(b.dir, "pool")
	if err := fillPool(dir); err != nil {
		return err
	}
	return b.withService("state", func(s service) error { return askPool(s, dir) })
}

// service is one that runs for the measuring, and how it is reached.
type service struct {
	*client.Service
	address, token string
	process        int
}

// withService does something with a service of its own, whose state lies in a folder of that name.
func (b *bench) withService(name string, do func(service) error) error {
	state := filepath.Join(b.dir, name)
	cmd := exec.Command(b.binary, "serve", "--listen", "127.0.0.1:0", "--state", state)
	out, err := cmd.StdoutPipe()
	if err != nil {
		return err
	}
	if err := cmd.Start(); err != nil {
		return err
	}
	s, err := dial(bufio.NewScanner(out), state)
	if s.process = cmd.Process.Pid; err == nil {
		err = do(s)
	}
	return errors.Join(err, cmd.Process.Signal(syscall.SIGTERM), cmd.Wait())
}

// dial connects to a service that says where it answers.
func dial(lines *bufio.Scanner, state string) (s service, err error) {
	link := ""
	for link == "" && lines.Scan() {
		_, link, _ = strings.Cut(lines.Text(), "minutes: ")
	}
	s.address, _, _ = strings.Cut(link, "/enter")
	token, err := os.ReadFile(filepath.Join(state, "token"))
	if err != nil {
		return s, err
	}
	s.token = strings.TrimSpace(string(token))
	s.Service, err = client.Dial(s.address, s.token)
	return s, err
}

// fillPool makes the disks: copies of one of each format.
func fillPool(dir string) error {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return err
	}
	folder, err := local.Open(dir)
	if err != nil {
		return err
	}
	defer folder.Close()
	for _, name := range []string{"qcow2", "raw"} {
		f, err := disk.Lookup(name)
		if err != nil {
			return err
		}
		w, err := f.Create(disk.Target{Folder: folder, Name: "tide-00000." + name, Size: 1 << 20, Layout: f.Layouts[0].Name})
		if err == nil {
			_, err = w.WriteAt([]byte("tide"), 0)
		}
		if err == nil {
			err = w.Commit(context.Background())
		}
		if err != nil {
			return err
		}
		text, err := os.ReadFile(filepath.Join(dir, "tide-00000."+name))
		for i := 1; err == nil && i < ofEach; i++ {
			err = os.WriteFile(filepath.Join(dir, fmt.Sprintf("tide-%05d.%s", i, name)), text, 0o600)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

func askPool(s service, dir string) error {
	ctx := context.Background()
	fmt.Printf("\n%-60s %10s\n", fmt.Sprintf("a pool of %d disks", 2*ofEach), "ms")
	say := func(what string, took time.Duration) {
		fmt.Printf("%-60s %10.1f\n", what, float64(took.Microseconds())/1000)
	}
	page := func(p api.ListDisksParams) (api.DiskList, time.Duration, error) {
		begin := time.Now()
		list, err := s.ListDisks(ctx, "quay-store", p)
		return list, time.Since(begin), err
	}
	begin := time.Now()
	if _, err := s.AddPool(ctx, api.NewPool{Name: "quay-store", Folder: dir}); err != nil {
		return err
	}
	for first := true; ; {
		list, _, err := page(api.ListDisksParams{Limit: ptr(onAPage)})
		if err != nil {
			return err
		}
		if first && list.Total > 0 {
			first = false
			say("the first disks listed", time.Since(begin))
		}
		if list.Total == 2*ofEach && list.Refreshed != nil {
			break
		}
	}
	say("first look through", time.Since(begin))
	time.Sleep(2 * time.Second) // so that nothing else is going on
	var alone []float64
	var cursor *string
	for range 9 {
		list, took, err := page(api.ListDisksParams{Limit: ptr(onAPage), Cursor: cursor})
		if err != nil {
			return err
		}
		cursor = list.Next
		alone = append(alone, took.Seconds())
	}
	say("a page of 50 that nobody has asked for", time.Duration(median(alone)*float64(time.Second)))
	_, took, err := page(api.ListDisksParams{Limit: ptr(onAPage), Sort: ptr(api.Room), Descending: ptr(true)})
	say("the same, the largest first", took)
	if err == nil {
		_, took, err = page(api.ListDisksParams{Limit: ptr(onAPage), Sort: ptr(api.Room), Descending: ptr(true)})
		say("again", took)
	}
	if err == nil {
		_, took, err = page(api.ListDisksParams{Limit: ptr(onAPage), Refresh: ptr(true)})
		say("a page of 50, looked through before", took)
	}
	if err == nil {
		err = manyClients(ctx, s.address, s.token)
	}
	begin = time.Now()
	if err == nil {
		_, err = s.AllDisks(ctx, "quay-store", api.ListDisksParams{})
		say("all through the client", time.Since(begin))
	}
	if err != nil {
		return err
	}
	return behindItsBack(ctx, s.Service, dir, say)
}

// manyClients has clients list one page, all at the same time.
func manyClients(ctx context.Context, address, token string) error {
	var mu sync.Mutex
	var took []float64
	var failed error
	var all sync.WaitGroup
	begin := time.Now()
	for range clients {
		all.Go(func() {
			var err error
			for err == nil && time.Since(begin) < asking {
				asked := time.Now()
				err = ask(ctx, address+"/v1/pools/quay-store/disks?limit=50", token)
				mu.Lock()
				took = append(took, time.Since(asked).Seconds()*1000)
				mu.Unlock()
			}
			if err != nil {
				mu.Lock()
				failed = err
				mu.Unlock()
			}
		})
	}
	all.Wait()
	slices.Sort(took)
	fmt.Printf(
		"%-60s %10.1f\n",
		fmt.Sprintf("%d clients list one page: %.0f a second, the slowest of a hundred", clients, float64(len(took))/time.Since(begin).Seconds()),
		took[len(took)*99/100],
	)
	return failed
}

// ask asks as a client on another computer does, whose own work is no matter here.
func ask(ctx context.Context, address, token string) error {
	r, err := http.NewRequestWithContext(ctx, http.MethodGet, address, nil)
	if err != nil {
		return err
	}
	r.Header.Set("Authorization", "Bearer "+token)
	answer, err := asker.Do(r)
	if err != nil {
		return err
	}
	_, err = io.Copy(io.Discard, answer.Body)
	if answer.StatusCode != http.StatusOK {
		err = errors.Join(err, errors.New(answer.Status))
	}
	return errors.Join(err, answer.Body.Close())
}

var asker = &http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: clients}}

// behindItsBack measures how long it takes until what changes in the pool is listed.
func behindItsBack(ctx context.Context, s *client.Service, dir string, say func(string, time.Duration)) error {
	name := filepath.Join(dir, "late.raw")
	seen := func(what string, is func(api.DiskList) bool) error {
		begin := time.Now()
		for {
			list, err := s.ListDisks(ctx, "quay-store", api.ListDisksParams{Search: ptr("late")})
			if err != nil {
				return err
			}
			if is(list) {
				say(what, time.Since(begin))
				return nil
			}
			if time.Since(begin) > time.Minute {
				return fmt.Errorf("%s: not within a minute", what)
			}
			time.Sleep(10 * time.Millisecond)
		}
	}
	err := os.WriteFile(name, make([]byte, 4096), 0o600)
	if err == nil {
		err = seen("one disk added behind its back, until it is seen", func(l api.DiskList) bool { return l.Total == 1 })
	}
	if err == nil {
		err = os.WriteFile(name, make([]byte, 8192), 0o600)
	}
	if err == nil {
		err = seen("changed", func(l api.DiskList) bool { return l.Total == 1 && l.Items[0].FileSize == 8192 })
	}
	if err == nil {
		err = os.Remove(name)
	}
	if err == nil {
		err = seen("removed", func(l api.DiskList) bool { return l.Total == 0 })
	}
	return err
}

func ptr[T any](v T) *T { return &v }
