package service

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"bagaglio/internal/records"

	"golang.org/x/sys/unix"
)

// stateMark is a file in the state folder by which another service knows it.
const stateMark = "bagaglio-state"

func mark(state string) error {
	file := filepath.Join(state, stateMark)
	if _, err := os.Stat(file); err == nil {
		return nil
	}
	if err := os.WriteFile(file, []byte("This folder is the state of a service. Nothing in it is a disk.\n"), 0o600); err != nil {
		return fmt.Errorf("marking the state folder: %w", err)
	}
	return nil
}

// letGoIn is for how long a program that an earlier service started, and that runs on for a moment, may still have its lock.
const letGoIn = 2 * time.Second

// lockState keeps a second service from using the same records.
func lockState(state string) (*os.File, error) {
	f, err := os.OpenFile(filepath.Join(state, "lock"), os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, fmt.Errorf("locking the state folder: %w", err)
	}
	err = unix.Flock(int(f.Fd()), unix.LOCK_EX|unix.LOCK_NB)
	for until := time.Now().Add(letGoIn); err != nil && time.Now().Before(until); time.Sleep(20 * time.Millisecond) {
		err = unix.Flock(int(f.Fd()), unix.LOCK_EX|unix.LOCK_NB)
	}
	if err != nil {
		return nil, errors.Join(
			fmt.Errorf(
				"%w: another service uses the state folder %s: stop it first, or give this one a folder of its own (--state)",
				records.ErrState,
				state,
			),
			f.Close(),
		)
	}
	return f, nil
}

// closeFolder keeps others out of the state folder, which holds keys.
func closeFolder(state string) error {
	info, err := os.Stat(state)
	if err == nil && info.Mode().Perm()&0o077 != 0 {
		err = os.Chmod(state, 0o700)
	}
	if err != nil {
		return fmt.Errorf("the state folder %s is open to others, and has to be closed (chmod 700): %w", state, err)
	}
	return nil
}
