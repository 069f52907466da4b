package libvirt

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"bagaglio/core/host"

	"github.com/digitalocean/go-libvirt"
)

// An emulator can be ahead of its daemon: where that is ended while it puts an image on a disk, the guest may write to the image already, and the daemon, started again, knows
// nothing of it (9.0). Nothing that it is asked about the disk works then, and what the guest wrote since is lost when it is switched on the next time. So the emulator is
// asked, by its own protocol (QMP), before anything is done with a disk, and has what it is ahead by written down.

const (
	catchUpJob = "bagaglio-catch-up"
	// catchUpIn is how long the emulator has to go back to what the daemon knows of, once everything is written down: its guest is halted meanwhile.
	catchUpIn = 5 * time.Second
)

// node is a part of how an emulator reads and writes (QMP, BlockDeviceInfo).
type node struct {
	File   fileName `json:"file"`
	Name   string   `json:"node-name"`
	Driver string   `json:"drv"` // file, or that of a format upon one
	Image  struct {
		Below *struct {
			File fileName `json:"filename"`
		} `json:"backing-image"`
	} `json:"image"`
}

// fileName is that of a file, as an emulator calls it where nothing of it is otherwise than the file says, and where something is (json:).
type fileName string

func (f *fileName) UnmarshalJSON(b []byte) error {
	var text string
	if err := json.Unmarshal(b, &text); err != nil {
		return err
	}
	whole, ok := strings.CutPrefix(text, "json:")
	*f = fileName(text)
	if !ok {
		return nil
	}
	var is struct {
		Name fileName        `json:"filename"`
		File json.RawMessage `json:"file"`
	}
	if err := json.Unmarshal([]byte(whole), &is); err != nil {
		return err
	}
	for is.Name == "" && len(is.File) > 0 { // a format, whose file is one below
		below := is.File
		is.File = nil
		if err := json.Unmarshal(below, &is); err != nil {
			return err
		}
	}
	*f = is.Name
	return nil
}

// ask asks the emulator something, by its own protocol.
func (h *Host) ask(d libvirt.Domain, command string, with map[string]any, into any) error {
	text, err := json.Marshal(map[string]any{"execute": command, "arguments": with})
	if err != nil {
		return err
	}
	answer, err := h.l.QEMUDomainMonitorCommand(d, string(text), 0)
	if err != nil {
		return fmt.Errorf("asking the emulator (%s): %w", command, err)
	}
	var said struct {
		Return json.RawMessage `json:"return"`
		Error  *struct {
			Text string `json:"desc"`
		} `json:"error"`
	}
	if err := json.Unmarshal([]byte(answer), &said); err != nil {
		return fmt.Errorf("reading what the emulator says (%s): %w", command, err)
	}
	if said.Error != nil {
		return refused("the emulator refuses (%s): %s", command, said.Error.Text)
	}
	return json.Unmarshal(said.Return, into)
}

// drives are what the guest's disks are read from and written to, as the emulator has them.
func (h *Host) drives(d libvirt.Domain) (all []node, err error) {
	var said []struct {
		Inserted node `json:"inserted"`
	}
	err = h.ask(d, "query-block", map[string]any{}, &said)
	for _, drive := range said {
		all = append(all, drive.Inserted)
	}
	return all, err
}

// nodes are those of a file: that of its format, and then that of the file itself, on which the other one lies.
func (h *Host) nodes(d libvirt.Domain, file string) (of []node, err error) {
	var all []node
	err = h.ask(d, "query-named-block-nodes", map[string]any{}, &all)
	for _, format := range []bool{true, false} {
		for _, n := range all {
			if n.File == fileName(file) && (n.Driver != "file") == format {
				of = append(of, n)
			}
		}
	}
	return of, err
}

// catchUp has a disk be what its daemon takes it for, and returns the image that its guest wrote to meanwhile, empty where there was none. That has nothing any more that
// is not below it, and is not to be used again.
func (h *Host) catchUp(ctx context.Context, d libvirt.Domain, slot string) (ahead string, err error) {
	err = h.follow(ctx, func() (done bool, err error) {
		drives, err := h.drives(d) // before the daemon is asked: what that does meanwhile is not ahead of it
		if err != nil {
			return false, err
		}
		s, err := h.stored(d, slot)
		if err != nil || s.Mirror != nil || len(s.files()) == 0 {
			return true, err
		}
		top := fileName(s.files()[0])
		i := slices.IndexFunc(drives, func(n node) bool { return n.File != top && n.Image.Below != nil && n.Image.Below.File == top })
		if i < 0 {
			return true, h.forget(d, ahead)
		}
		ahead = string(drives[i].File)
		var jobs []struct {
			Name  string `json:"device"`
			Ready bool   `json:"ready"`
		}
		if err := h.ask(d, "query-block-jobs", map[string]any{}, &jobs); err != nil {
			return false, err
		}
		for _, job := range jobs {
			if job.Name == catchUpJob {
				if job.Ready {
					err = h.goBack(d)
				}
				return false, err
			}
		}
		nodes, err := h.nodes(d, string(top))
		if err != nil || len(nodes) == 0 {
			return false, errors.Join(err, refused("the emulator has no node of %s", top))
		}
		return false, h.ask(
			d,
			"block-commit",
			map[string]any{"job-id": catchUpJob, "device": drives[i].Name, "base-node": nodes[0].Name},
			new(any),
		)
	})
	return ahead, err
}

// goBack has the guest go on from what the daemon knows of. It is halted for that, see pivot.
func (h *Host) goBack(d libvirt.Domain) (err error) {
	m, err := h.machine(d)
	if err != nil {
		return err
	}
	if m.State == host.Running {
		if err := h.l.DomainSuspend(d); err != nil {
			return err
		}
		defer func() { err = errors.Join(err, h.l.DomainResume(d)) }()
	}
	err = h.ask(d, "block-job-complete", map[string]any{"device": catchUpJob}, new(any))
	for end := time.Now().Add(catchUpIn); err == nil; time.Sleep(followEvery) {
		var jobs []struct {
			Name string `json:"device"`
		}
		if err = h.ask(d, "query-block-jobs", map[string]any{}, &jobs); err != nil || len(jobs) == 0 {
			break
		}
		if time.Now().After(end) {
			err = refused("the emulator does not go back to what its daemon knows of")
		}
	}
	return err
}

// forget has the emulator let go of an image that no drive uses: the daemon, which knows nothing of it, would give its names to another one. It does nothing where the
// emulator has none of that file.
func (h *Host) forget(d libvirt.Domain, file string) error {
	if file == "" {
		return nil
	}
	nodes, err := h.nodes(d, file)
	if err != nil {
		return err
	}
	drives, err := h.drives(d)
	if err != nil || slices.ContainsFunc(drives, func(n node) bool { return n.File == fileName(file) }) {
		return err
	}
	for _, n := range nodes {
		if err := h.ask(d, "blockdev-del", map[string]any{"node-name": n.Name}, new(any)); err != nil {
			return err
		}
	}
	return nil
}
