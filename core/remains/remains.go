// Package remains is what a service leaves in pools for the day on which its records are lost, and what of an earlier one is found there.
package remains

import (
	"bytes"
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"slices"
	"strings"

	"bagaglio/core/plan"
	"bagaglio/core/receipt"
	"bagaglio/core/seal"
	"bagaglio/core/step/disks"
	"bagaglio/core/storage"

	"github.com/go-jose/go-jose/v4"
)

const (
	// receipts is the folder in a pool with the receipts of jobs that put something there, in a folder for each key that signed them.
	receipts  = disks.OwnFolder + "/receipts"
	aboutFile = "pool.json"
	keyFile   = "key.jwk"
	sealFile  = "%010d.jws" // by number, so that names stand in the order of the chain

	// mostKept bounds how many receipts of a key lie in a pool, and mostLong how long a file of ours may be, in bytes.
	mostKept = 1000
	mostLong = 16 << 20
)

// About is what a pool was to the service that left it there.
type About struct {
	Pool   string     `json:"pool"`
	Host   string     `json:"host"`
	Folder string     `json:"folder"`
	Rules  plan.Rules `json:"rules"`
}

// Leave leaves the receipt of a job in a pool that it put something into, with what the pool is and the key that checks it. It is for later: whoever
// calls it goes on without it where that fails. On a removable drive nothing is left: its receipt has said already that it can be unplugged.
func Leave(f storage.Folder, about About, public jose.JSONWebKey, number int64, sealed string) error {
	space, err := f.Space()
	if err != nil || space.Removable {
		return err
	}
	dir := path.Join(receipts, public.KeyID)
	key, err := public.MarshalJSON()
	if err != nil {
		return err
	}
	is, err := json.Marshal(about)
	if err != nil {
		return err
	}
	for name, content := range map[string][]byte{keyFile: key, aboutFile: is} {
		if was, err := read(f, path.Join(dir, name)); err == nil && bytes.Equal(was, content) {
			continue
		}
		if err := storage.WriteFile(f, path.Join(dir, name), content); err != nil {
			return fmt.Errorf("leaving what the pool is: %w", err)
		}
	}
	if err := storage.WriteFile(f, path.Join(dir, fmt.Sprintf(sealFile, number)), []byte(sealed)); err != nil {
		return fmt.Errorf("leaving a receipt: %w", err)
	}
	if err := errors.Join(dropOldest(f, dir), disks.CloseOurs(f)); err != nil {
		return err
	}
	for _, at := range []string{dir, receipts, disks.OwnFolder, "."} {
		if err := f.Sync(at); err != nil {
			return err
		}
	}
	return nil
}

func dropOldest(f storage.Folder, dir string) error {
	names, err := seals(f, dir)
	for len(names) > mostKept && err == nil {
		err = f.Remove(names[0])
		names = names[1:]
	}
	return err
}

// seals are the names of the receipts in a folder, the oldest first.
func seals(f storage.Folder, dir string) (names []string, err error) {
	infos, err := f.List(dir)
	for _, i := range infos {
		if i.Regular && path.Ext(i.Name) == path.Ext(sealFile) {
			names = append(names, path.Join(dir, path.Base(i.Name)))
		}
	}
	return names, err
}

// Found is what an earlier service left in a folder.
type Found struct {
	Services []Service `json:"services"`
	// Held is how much is held there, and Unfinished are the folders of images that were being made, of no use to anybody but who makes them.
	Held       int      `json:"held"`
	Unfinished []string `json:"unfinished"`
}

// Service is one that left something, by the key that it signed with.
type Service struct {
	Key      string    `json:"key"`             // its ID
	About    *About    `json:"about,omitempty"` // nil where that does not say
	Receipts []Receipt `json:"receipts"`
	Broken   []string  `json:"broken"` // files that are not as that key signed them
}

// Receipt is one that is as it was signed.
type Receipt struct {
	Number  int64           `json:"number"`
	Job     int64           `json:"job"`
	Receipt receipt.Receipt `json:"receipt"`
}

// Find finds what earlier services left in a folder, the one with the latest receipt first. It changes nothing.
func Find(f storage.Folder) (found Found, err error) {
	found = Found{Services: []Service{}, Unfinished: []string{}}
	held, err := disks.ListHeld(f)
	if err != nil {
		return found, err
	}
	found.Held = len(held)
	unfinished, err := below(f, disks.StagingFolder)
	if err != nil {
		return found, err
	}
	found.Unfinished = append(found.Unfinished, unfinished...)
	dirs, err := below(f, receipts)
	if err != nil {
		return found, err
	}
	for _, dir := range dirs {
		s, err := service(f, dir)
		if err != nil {
			return found, fmt.Errorf("reading %s: %w", dir, err)
		}
		found.Services = append(found.Services, s)
	}
	slices.SortStableFunc(found.Services, func(a, b Service) int { return cmp.Compare(b.last(), a.last()) })
	return found, nil
}

func (s Service) last() int64 {
	if len(s.Receipts) == 0 {
		return 0
	}
	return s.Receipts[len(s.Receipts)-1].Receipt.Finished.UnixNano()
}

// below are the folders in one that may not be there.
func below(f storage.Folder, dir string) (dirs []string, err error) {
	infos, err := f.List(dir)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	for _, i := range infos {
		if i.IsDir {
			dirs = append(dirs, path.Join(dir, path.Base(i.Name)))
		}
	}
	return dirs, err
}

func service(f storage.Folder, dir string) (s Service, err error) {
	s = Service{Key: path.Base(dir), Receipts: []Receipt{}, Broken: []string{}}
	if b, err := read(f, path.Join(dir, aboutFile)); err == nil {
		var about About
		if err := json.Unmarshal(b, &about); err == nil {
			s.About = &about
		}
	}
	var key jose.JSONWebKey
	b, err := read(f, path.Join(dir, keyFile))
	if err == nil {
		err = key.UnmarshalJSON(b)
	}
	if err != nil || !key.IsPublic() {
		s.Broken = append(s.Broken, keyFile)
		return s, nil
	}
	names, err := seals(f, dir)
	for _, name := range names {
		r, err := open(f, name, key)
		if err != nil {
			s.Broken = append(s.Broken, path.Base(name))
			continue
		}
		s.Receipts = append(s.Receipts, r)
	}
	return s, err
}

func open(f storage.Folder, name string, key jose.JSONWebKey) (r Receipt, err error) {
	b, err := read(f, name)
	if err != nil {
		return r, err
	}
	link, err := seal.Open(strings.TrimSpace(string(b)), key)
	if err != nil {
		return r, err
	}
	r.Number, r.Job = link.Number, link.Job
	return r, json.Unmarshal(link.Receipt, &r.Receipt)
}

func read(f storage.Folder, name string) ([]byte, error) {
	file, err := f.Open(name)
	if err != nil {
		return nil, err
	}
	defer file.Close()
	size, err := file.Size()
	if err == nil && size > mostLong {
		err = fmt.Errorf("%s is longer than any that is ours", name)
	}
	if err != nil {
		return nil, err
	}
	return io.ReadAll(io.NewSectionReader(file, 0, size))
}
