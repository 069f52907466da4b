// Package guestd runs a virtualisation daemon of its own, with the rights of an ordinary user, for the demo and for tests. Nothing of it is the
// system's.
package guestd

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"
)

// Needs are the programs that it takes, and the packages that have them.
var Needs = map[string]string{"libvirtd": "libvirt-daemon", "qemu-system-x86_64": "qemu-system-x86", "setpriv": "util-linux"}

// readyIn is how long it has to start.
const readyIn = 20 * time.Second

// Daemon is one that runs.
type Daemon struct {
	Socket string
	Disks  string // a folder for disks that its guests can use
	Owner  string // of those, as UID:GID
	dir    string
	words  []string // more of its command line

	mu     sync.Mutex
	cmd    *exec.Cmd
	ended  chan struct{} // closed when that has ended
	wanted bool          // it is to run: where it ends by itself, it is started again
	notes  bytes.Buffer
}

// Start starts one as a user, in a folder of its own, with more words on its command line. The caller closes it.
func Start(u *user.User, words ...string) (d *Daemon, err error) {
	for tool, of := range Needs {
		if _, err := exec.LookPath(tool); err != nil {
			return nil, fmt.Errorf("%s is missing: apt-get install %s", tool, of)
		}
	}
	uid, uidErr := strconv.Atoi(u.Uid)
	gid, gidErr := strconv.Atoi(u.Gid)
	dir, err := os.MkdirTemp("/tmp", "guests-") // sockets have short names
	if err := errors.Join(uidErr, gidErr, err); err != nil {
		return nil, err
	}
	d = &Daemon{
		Socket: filepath.Join(dir, "run/libvirt/libvirt-sock"),
		Disks:  filepath.Join(dir, "disks"),
		Owner:  u.Uid + ":" + u.Gid,
		dir:    dir, words: words,
	}
	defer func() {
		if err != nil {
			err = errors.Join(err, d.Close())
		}
	}()
	own := func(at string) error {
		return errors.Join(os.MkdirAll(at, 0o755), os.Chmod(at, 0o755), os.Chown(at, uid, gid))
	}
	for _, sub := range []string{"", "home", "run", "config", "cache", "data", "disks", "cache/libvirt", "cache/libvirt/qemu", "cache/libvirt/qemu/cache"} {
		if err := own(filepath.Join(dir, sub)); err != nil {
			return nil, err
		}
	}
	// What it finds out about its emulators, in seconds, all daemons of a user on this computer share; each looks whether it still holds.
	shared := filepath.Join("/tmp", "emulators-"+u.Uid) // where each of them comes in
	if err := os.Mkdir(shared, 0o755); err == nil {
		if err := os.Lchown(shared, uid, gid); err != nil {
			return nil, err
		}
	}
	if isOf(shared, uid) { // what somebody else has put there is not used
		if err := os.Symlink(shared, filepath.Join(dir, "cache/libvirt/qemu/cache/capabilities")); err != nil {
			return nil, err
		}
	}
	return d, d.Run()
}

// isOf tells whether a folder, and no link to one, belongs to a user.
func isOf(folder string, uid int) bool {
	info, err := os.Lstat(folder)
	if err != nil {
		return false
	}
	st, ok := info.Sys().(*syscall.Stat_t)
	return ok && info.IsDir() && int(st.Uid) == uid
}

// Run starts it again after Kill, with what it knew. Where it ends by itself, it is started again, as a computer's own would be: some
// versions fall when a line to them is cut.
func (d *Daemon) Run() error {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.start()
}

// start does so. The lock is held.
func (d *Daemon) start() error {
	uid, gid, _ := strings.Cut(d.Owner, ":")
	words := append([]string{"setpriv", "--reuid=" + uid, "--regid=" + gid, "--clear-groups", "libvirtd"}, d.words...)
	if os.Getuid() != 0 { // it is that user
		words = words[4:]
	}
	d.cmd = exec.Command(words[0], words[1:]...)
	if err := os.Remove(d.Socket); err != nil && !errors.Is(err, fs.ErrNotExist) { // of an earlier time
		return err
	}
	d.cmd.Env = []string{"PATH=" + os.Getenv("PATH"), "HOME=" + filepath.Join(d.dir, "home")}
	for name, sub := range map[string]string{"XDG_RUNTIME_DIR": "run", "XDG_CONFIG_HOME": "config", "XDG_CACHE_HOME": "cache", "XDG_DATA_HOME": "data"} {
		d.cmd.Env = append(d.cmd.Env, name+"="+filepath.Join(d.dir, sub))
	}
	d.cmd.Dir, d.cmd.Stdout, d.cmd.Stderr = d.dir, &d.notes, &d.notes
	d.cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true} // Ctrl-C at the terminal is for whoever started it
	if err := d.cmd.Start(); err != nil {
		return err
	}
	d.wanted, d.ended = true, make(chan struct{})
	go d.mind(d.cmd, d.ended)
	for until := time.Now().Add(readyIn); ; time.Sleep(20 * time.Millisecond) {
		if c, err := net.Dial("unix", d.Socket); err == nil { // the file is there before somebody listens
			return c.Close()
		}
		if time.Now().After(until) {
			return fmt.Errorf("the daemon did not start: %s", d.said())
		}
	}
}

// mind waits until it ends, and starts it again where that was not asked for.
func (d *Daemon) mind(cmd *exec.Cmd, ended chan struct{}) {
	err := cmd.Wait()
	close(ended)
	d.mu.Lock()
	defer d.mu.Unlock()
	if !d.wanted || d.cmd != cmd { // it was killed, and may run again
		return
	}
	fmt.Fprintf(&d.notes, "\nIt ended by itself (%v), and is started again.\n", err)
	if err := d.start(); err != nil {
		d.wanted = false
		fmt.Fprintf(&d.notes, "That fails: %v\n", err)
	}
}

// Said is what it wrote about itself, once it has ended.
func (d *Daemon) Said() string {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.said()
}

func (d *Daemon) said() string {
	select {
	case <-d.ended:
		return fmt.Sprintf("%s\n%v", d.notes.String(), d.cmd.ProcessState)
	default:
		return "it has not ended"
	}
}

// Kill ends it as a crash would. Its guests go on.
func (d *Daemon) Kill() {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.wanted {
		d.wanted = false
		_ = d.cmd.Process.Kill() // it may have ended at this moment
		<-d.ended
	}
}

// Close ends it, its guests, and what it started for them, and removes its folder.
func (d *Daemon) Close() error {
	d.Kill()
	for _, pattern := range []string{"run/libvirt/*.pid", "run/libvirt/qemu/run/*.pid", "config/libvirt/qemu/run/*.pid"} {
		files, _ := filepath.Glob(filepath.Join(d.dir, pattern)) // the pattern is a good one
		for _, f := range files {
			if text, err := os.ReadFile(f); err == nil {
				if pid, err := strconv.Atoi(strings.TrimSpace(string(text))); err == nil && pid > 1 && d.isOurs(pid) {
					_ = syscall.Kill(pid, syscall.SIGKILL)
				}
			}
		}
	}
	return os.RemoveAll(d.dir)
}

// isOurs tells whether a process has the folder in its words or surroundings: numbers are given again.
func (d *Daemon) isOurs(pid int) bool {
	for _, file := range []string{"cmdline", "environ"} {
		if text, err := os.ReadFile(fmt.Sprintf("/proc/%d/%s", pid, file)); err == nil && bytes.Contains(text, []byte(d.dir)) {
			return true
		}
	}
	return false
}
