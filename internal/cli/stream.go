package cli

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"

	"bagaglio/core/fingerprint"
)

// standard names standard input as a source, and standard output as a destination.
const standard = "-"

// spool writes what comes on standard input to a file, since a disk is not read from its first to its last byte only. Zeros are not stored.
func (a *app) spool(dir string) (name string, err error) {
	if isTerminal(a.in) {
		return "", usage("- is what comes on standard input, and that is a terminal: lead a file or a program there")
	}
	name = filepath.Join(dir, "standard-input")
	file, err := os.OpenFile(name, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return "", err
	}
	zeros := make([]byte, fingerprint.LeafSize)
	piece := make([]byte, fingerprint.LeafSize)
	size := int64(0)
	for err == nil {
		n, readErr := io.ReadFull(a.in, piece)
		if n > 0 && !bytes.Equal(piece[:n], zeros[:n]) {
			_, err = file.WriteAt(piece[:n], size)
		}
		size += int64(n)
		if errors.Is(readErr, io.EOF) || errors.Is(readErr, io.ErrUnexpectedEOF) {
			break
		}
		err = errors.Join(err, readErr)
	}
	err = errors.Join(err, file.Truncate(size), file.Close())
	if err == nil && size == 0 {
		err = errors.New("nothing came on standard input")
	}
	if err != nil {
		return "", fmt.Errorf("keeping what comes on standard input in %s: %w; another folder is named by TMPDIR", dir, err)
	}
	return name, nil
}

// piped is a conversion from standard input or to standard output.
type piped struct {
	from, to, as string
	planOnly     bool
	proof        bool // what is made is read back and compared
	run          func(from, to string) error
}

// throughPipes runs one, by files of its own between. What is said goes elsewhere where the image goes to standard output.
func (a *app) throughPipes(p piped) (err error) {
	dir, err := os.MkdirTemp("", "bagaglio-")
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, os.RemoveAll(dir)) }()
	if p.from == standard {
		if p.from, err = a.spool(dir); err != nil {
			return err
		}
	}
	if p.to != standard {
		return p.run(p.from, p.to)
	}
	if p.as == "" {
		return usage("say which format goes to standard output: add --as FORMAT")
	}
	made := filepath.Join(dir, "made")
	if p.planOnly {
		return p.run(p.from, made)
	}
	if isTerminal(a.out) {
		return usage("- is standard output, and that is a terminal: lead it to a file or a program")
	}
	data := a.out
	a.out = a.notes
	ran := p.run(p.from, made)
	if _, err := os.Stat(made); err != nil { // nothing was made
		return errors.Join(ran, err)
	}
	if err := pour(dir, made, data); err != nil {
		return errors.Join(ran, err)
	}
	if ran == nil && p.proof {
		a.remark("It was read back and compared before it went to standard output; what becomes of it there is not known here.")
	} else {
		a.remark("It went to standard output without having been proven.")
	}
	return ran
}

// pour writes the only file of an image to standard output.
func pour(dir, made string, data io.Writer) error {
	all, err := filepath.Glob(filepath.Join(dir, "made*"))
	if err != nil {
		return err
	}
	for _, name := range all {
		if name != made && filepath.Ext(name) != ".bagtag" {
			return usage("that layout has several files, which cannot all go to standard output: choose another one with --layout")
		}
	}
	file, err := os.Open(made)
	if err != nil {
		return err
	}
	defer file.Close()
	if _, err := io.Copy(data, file); err != nil {
		return fmt.Errorf("writing to standard output: %w", err)
	}
	return nil
}
