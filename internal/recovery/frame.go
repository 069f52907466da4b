package recovery

import (
	"bufio"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"time"

	"filippo.io/age"
	"github.com/klauspost/compress/zstd"
	"github.com/zeebo/blake3"
)

// pageSize is the length of a page of the records, in bytes (SQLite, "Database File Format", 1.2).
const pageSize = 4096

// Bounds of a frame that is read.
const (
	maxHead  = 64 << 20
	maxPages = 1 << 28
)

// Head begins a frame: a snapshot of the records, or what has changed since the frame before. It is a line of JSON; behind it come the pages that it has, each with its number
// before it (32 bits, big endian, from 0 on). All of it is packed by zstd (RFC 8878) and encrypted by age.
type Head struct {
	Term     int64             `json:"term"`
	Snapshot string            `json:"snapshot"`
	Number   int               `json:"number"` // 0 for the snapshot itself
	At       time.Time         `json:"at"`
	Pages    int64             `json:"pages"` // of all records
	Has      int64             `json:"has"`   // pages that follow
	Files    map[string][]byte `json:"files"` // others in the state folder that are new or have changed
	Gone     []string          `json:"gone,omitempty"`
}

// sums are what the pages of a file are known by.
type sums [][16]byte

// sumsOf reads a file.
func sumsOf(file *os.File) (all sums, err error) {
	in := bufio.NewReaderSize(io.NewSectionReader(file, 0, 1<<62), 1<<20)
	page := make([]byte, pageSize)
	for {
		if _, err := io.ReadFull(in, page); errors.Is(err, io.EOF) {
			return all, nil
		} else if err != nil {
			return nil, fmt.Errorf("reading the copy of the records: %w", err)
		}
		sum := blake3.Sum256(page)
		all = append(all, [16]byte(sum[:16]))
	}
}

// changed are the numbers of pages that differ.
func changed(before, now sums) (numbers []int64) {
	for i, sum := range now {
		if i >= len(before) || before[i] != sum {
			numbers = append(numbers, int64(i))
		}
	}
	return numbers
}

// writeFrame writes a frame for who has the key.
func writeFrame(to io.Writer, key age.Recipient, h Head, file io.ReaderAt, numbers []int64) error {
	h.Has = int64(len(numbers))
	return seal(to, key, func(to io.Writer) error {
		if err := json.NewEncoder(to).Encode(h); err != nil {
			return err
		}
		record := make([]byte, 4+pageSize)
		for _, n := range numbers {
			binary.BigEndian.PutUint32(record, uint32(n))
			if _, err := file.ReadAt(record[4:], n*pageSize); err != nil {
				return fmt.Errorf("reading the copy of the records: %w", err)
			}
			if _, err := to.Write(record); err != nil {
				return err
			}
		}
		return nil
	})
}

// seal packs and encrypts what is written.
func seal(to io.Writer, key age.Recipient, write func(io.Writer) error) error {
	sealed, err := age.Encrypt(to, key)
	if err != nil {
		return err
	}
	packed, err := zstd.NewWriter(sealed, zstd.WithEncoderLevel(zstd.SpeedFastest), zstd.WithEncoderConcurrency(1))
	if err != nil {
		return err
	}
	return errors.Join(write(packed), packed.Close(), sealed.Close())
}

// readFrame brings the records in a folder to what a frame says. A frame that is not whole changes nothing: whoever reads it has it whole before.
func readFrame(from io.Reader, key age.Identity, folder string) (h Head, err error) {
	open, err := age.Decrypt(from, key)
	if err != nil {
		return h, fmt.Errorf("this is not the recovery key of these records: %w", err)
	}
	plain, err := zstd.NewReader(open, zstd.WithDecoderConcurrency(1))
	if err != nil {
		return h, err
	}
	defer plain.Close()
	in := bufio.NewReaderSize(plain, 1<<20)
	line, err := readLine(in)
	if err == nil {
		err = json.Unmarshal(line, &h)
	}
	if err == nil && (h.Has < 0 || h.Pages < 0 || h.Pages > maxPages || h.Has > h.Pages) {
		err = errors.New("its numbers make no sense")
	}
	if err != nil {
		return h, fmt.Errorf("reading a frame of the records: %w", err)
	}
	file, err := os.OpenFile(filepath.Join(folder, recordsFile), os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return h, err
	}
	err = errors.Join(readPages(in, h, file), file.Close())
	if err == nil {
		err = writeFiles(folder, h)
	}
	return h, err
}

func readLine(in *bufio.Reader) (line []byte, err error) {
	for {
		part, more, err := in.ReadLine()
		if line = append(line, part...); err != nil || !more {
			return line, err
		}
		if len(line) > maxHead {
			return nil, errors.New("its head is too long")
		}
	}
}

func readPages(in io.Reader, h Head, file *os.File) error {
	record := make([]byte, 4+pageSize)
	for range h.Has {
		if _, err := io.ReadFull(in, record); err != nil {
			return fmt.Errorf("reading a frame of the records: %w", err)
		}
		n := int64(binary.BigEndian.Uint32(record))
		if n >= h.Pages {
			return errors.New("a frame of the records has a page behind their end")
		}
		if _, err := file.WriteAt(record[4:], n*pageSize); err != nil {
			return err
		}
	}
	return file.Truncate(h.Pages * pageSize)
}

// writeFiles writes the other files that a frame has.
func writeFiles(folder string, h Head) error {
	for name, content := range h.Files {
		if !filepath.IsLocal(name) {
			return fmt.Errorf("a frame of the records names %q, which leads elsewhere", name)
		}
		at := filepath.Join(folder, name)
		if err := os.MkdirAll(filepath.Dir(at), 0o700); err != nil {
			return err
		}
		if err := os.WriteFile(at, content, 0o600); err != nil {
			return err
		}
	}
	for _, name := range h.Gone {
		if filepath.IsLocal(name) {
			_ = os.Remove(filepath.Join(folder, name)) // it may never have been here
		}
	}
	return nil
}
