// Package state looks after the folder with what a service or a porter keeps: nobody else reads it, and nobody works in it twice.
package state

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"bagaglio/internal/records"

	"golang.org/x/sys/unix"
)

// File is one in the folder of a service by which another service knows it.
const File = "bagaglio-state"

// Mark makes that file.
func Mark(folder string) error {
	file := filepath.Join(folder, File)
	if _, err := os.Stat(file); err == nil {
		return nil
	}
	if err := os.WriteFile(file, []byte("This folder is the state of a service. Nothing in it is a disk.\n"), 0o600); err != nil {
		return fmt.Errorf("marking the state folder: %w", err)
	}
	return nil
}

// letGoIn is for how long a program that an earlier one started, and that runs on for a moment, may still have its lock.
const letGoIn = 2 * time.Second

// Lock keeps a second one of what uses the folder, a service or a porter, from using it too, until the file is closed. The error is records.ErrState where
// there is one.
func Lock(folder, what string) (*os.File, error) {
	f, err := os.OpenFile(filepath.Join(folder, "lock"), os.O_CREATE|os.O_RDWR, 0o600)
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
				"%w: another %s uses the state folder %s: stop it first, or give this one a folder of its own (--state)",
				records.ErrState,
				what,
				folder,
			),
			f.Close(),
		)
	}
	return f, nil
}

// Private makes the folder where there is none, and keeps others out of it, since it holds keys.
func Private(folder string) error {
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return fmt.Errorf("making the state folder: %w", err)
	}
	info, err := os.Stat(folder)
	if err == nil && info.Mode().Perm()&0o077 != 0 {
		err = os.Chmod(folder, 0o700)
	}
	if err != nil {
		return fmt.Errorf("the state folder %s is open to others, and has to be closed (chmod 700): %w", folder, err)
	}
	return nil
}
