package queue

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"sync"

	"bagaglio/core/seal"
	"bagaglio/core/storage/local"
	"bagaglio/internal/records"
	"bagaglio/internal/store"
)

// headFile keeps the head of the chain of receipts outside of the records, so that the last receipts cannot be taken out of those
// unnoticed.
const headFile = "receipts.head"

// Head is the last receipt of the chain.
type Head struct {
	Number int64  `json:"number"` // 0 before the first
	Digest string `json:"digest"` // of its seal
}

// String is how it is told.
func (h Head) String() string { return fmt.Sprintf("%d %s", h.Number, h.Digest) }

// chain seals receipts, each behind the one before.
type chain struct {
	mu   sync.Mutex
	file string
	key  *seal.Key
	head Head
	kept int64 // the number of the one that is in the file
}

// openChain takes up the chain where it ended. The records may be ahead by what a crash kept from the file: those receipts have to follow
// from its head. Anything else is told, and the chain goes on behind the head, so that every check finds the gap.
func openChain(ctx context.Context, state string, key *seal.Key, records *records.Records) (c *chain, broken error, err error) {
	c = &chain{file: filepath.Join(state, headFile), key: key}
	b, err := os.ReadFile(c.file)
	if err == nil {
		err = json.Unmarshal(b, &c.head)
	}
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, nil, fmt.Errorf("reading the head of the receipts in %s: %w", c.file, err)
	}
	found := c.head
	links := seal.Chain{Public: key.Public(), Length: c.head.Number, Head: c.head.Digest}
	if last, err := records.LastSeal(ctx); err != nil {
		return nil, nil, err
	} else if last.Number < found.Number || last.Number == found.Number && found.Number > 0 && seal.Digest(last.Seal) != found.Digest {
		broken = fmt.Errorf(
			"%w: the records end with receipt %d, and receipt %s was the last: some were taken out or replaced",
			seal.ErrBroken,
			last.Number,
			found,
		)
	}
	for broken == nil {
		seals, err := records.Seals(ctx, links.Length, sealsAtOnce)
		if err != nil {
			return nil, nil, err
		}
		for _, s := range seals {
			if _, err := links.Add(s.Seal); err != nil {
				broken = err
				break
			}
		}
		if len(seals) == 0 {
			break
		}
	}
	if broken != nil {
		return c, broken, nil
	}
	c.head = Head{links.Length, links.Head}
	return c, nil, c.keep()
}

// sealsAtOnce bounds how many receipts are looked at together.
const sealsAtOnce = 1000

// keep puts the head on stable storage.
func (c *chain) keep() error {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.kept > 0 && c.kept == c.head.Number { // whoever came before has put this one there too
		return nil
	}
	b, err := json.Marshal(c.head)
	if err != nil {
		return err
	}
	if err := local.WriteFile(c.file, b); err != nil {
		return fmt.Errorf("keeping the head of the receipts: %w: %w", store.ErrUnwritable, err)
	}
	c.kept = c.head.Number
	return nil
}

// add calls end with what seals the next receipt, and moves the head when that has worked, which is to be kept then. last is the number of
// the last receipt in the records: where somebody put one in, the next one comes behind that all the same, and checks find it.
func (c *chain) add(job, last int64, end func(store.Sealer) error) (Head, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	next := c.head
	err := end(func(receipt []byte) (int64, string, error) {
		number := max(c.head.Number, last) + 1
		sealed, err := c.key.Seal(seal.Link{Number: number, Previous: c.head.Digest, Job: job, Receipt: receipt})
		next = Head{number, seal.Digest(sealed)}
		return number, sealed, err
	})
	if err != nil {
		return c.head, err
	}
	c.head = next
	return c.head, nil
}

// Head is the last receipt of the chain, as it is kept outside of the records.
func (q *Queue) Head() Head {
	q.chain.mu.Lock()
	defer q.chain.mu.Unlock()
	return q.chain.head
}
