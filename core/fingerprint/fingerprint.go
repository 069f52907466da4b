// Package fingerprint computes one value for what a guest sees on a disk, the same in every format
// (docs/formats.md, "Fingerprint").
package fingerprint

import (
	"bytes"
	"encoding/binary"
	"encoding/hex"
	"fmt"
	"iter"
	"sort"
	"strings"
	"sync"

	"github.com/zeebo/blake3"
)

const (
	// LeafSize is how many bytes of the disk one leaf stands for; the last one may be shorter.
	LeafSize = 1 << 20
	// DigestSize is the length of a leaf.
	DigestSize = 32

	context = "bagaglio fingerprint v1"
	prefix  = "bf1-"
)

// Fingerprint stands for the virtual size and the content of a disk. Its zero value stands for nothing.
type Fingerprint [DigestSize]byte

// String returns the written form, bf1- and 64 hex digits.
func (f Fingerprint) String() string { return prefix + hex.EncodeToString(f[:]) }

// Parse reads the written form.
func Parse(s string) (Fingerprint, error) {
	var f Fingerprint
	digits, ok := strings.CutPrefix(s, prefix)
	b, err := hex.DecodeString(digits)
	if !ok || err != nil || len(b) != len(f) {
		return f, fmt.Errorf("%q is not a fingerprint: it is written %s and 64 hex digits", s, prefix)
	}
	copy(f[:], b)
	return f, nil
}

// Digest is one leaf.
type Digest [DigestSize]byte

// Leaf returns the leaf of content, which is at most LeafSize bytes long.
func Leaf(content []byte) Digest {
	if IsZero(content) {
		return ZeroLeaf(len(content))
	}
	return blake3.Sum256(content)
}

var fullZeroLeaf = sync.OnceValue(func() Digest { return blake3.Sum256(make([]byte, LeafSize)) })

// ZeroLeaf returns the leaf of n zeros.
func ZeroLeaf(n int) Digest {
	if n == LeafSize {
		return fullZeroLeaf()
	}
	return blake3.Sum256(make([]byte, n))
}

var zeros [64 << 10]byte

// IsZero tells whether b is all zeros.
func IsZero(b []byte) bool {
	for len(b) > len(zeros) {
		if !bytes.Equal(b[:len(zeros)], zeros[:]) {
			return false
		}
		b = b[len(zeros):]
	}
	return bytes.Equal(b, zeros[:len(b)])
}

// Leaves are the leaves of a disk from the first to the last. Runs of zero leaves take no memory; each other leaf takes
// 32 bytes, which is 32 MiB for 1 TiB of data.
type Leaves struct {
	size int64 // of the disk
	runs []run
	n    int64       // leaves so far
	sum  Fingerprint // once it was asked for
}

// run is a number of leaves: zeros, or those in digests.
type run struct {
	first   int64 // number of its first leaf
	zeros   int64
	digests []Digest
}

// NewLeaves begins the leaves of a disk of that virtual size in bytes.
func NewLeaves(size int64) *Leaves { return &Leaves{size: size} }

// Total is the number of leaves that the disk has.
func (l *Leaves) Total() int64 { return (l.size + LeafSize - 1) / LeafSize }

// Data is how many bytes of the disk lie in leaves that are not zeros.
func (l *Leaves) Data() (bytes int64) {
	for _, r := range l.runs {
		bytes += int64(len(r.digests)) * LeafSize
	}
	return bytes
}

// At returns the leaf of that number, which has to be there.
func (l *Leaves) At(number int64) Digest {
	i := sort.Search(len(l.runs), func(i int) bool { return l.runs[i].first > number }) - 1
	if r := l.runs[i]; r.zeros == 0 {
		return r.digests[number-r.first]
	}
	return fullZeroLeaf()
}

// Rest returns an empty list that begins behind the leaves of l.
func (l *Leaves) Rest() *Leaves { return &Leaves{size: l.size, n: l.n} }

// Next is the number of the leaf that comes next, from 0.
func (l *Leaves) Next() int64 { return l.n }

// Append adds the next leaves.
func (l *Leaves) Append(digests ...Digest) {
	for _, d := range digests {
		if d == fullZeroLeaf() {
			l.AppendZeros(1)
			continue
		}
		if len(l.runs) == 0 || l.runs[len(l.runs)-1].zeros > 0 {
			l.runs = append(l.runs, run{first: l.n})
		}
		last := &l.runs[len(l.runs)-1]
		last.digests = append(last.digests, d)
		l.n++
	}
}

// AppendZeros adds count leaves of zeros. If they reach the end of the disk, the last of them may be short.
func (l *Leaves) AppendZeros(count int64) {
	if short := int(l.size % LeafSize); short != 0 && l.n+count == l.Total() {
		if count > 1 {
			l.AppendZeros(count - 1)
		}
		l.Append(ZeroLeaf(short))
		return
	}
	if len(l.runs) == 0 || l.runs[len(l.runs)-1].zeros == 0 {
		l.runs = append(l.runs, run{first: l.n})
	}
	l.runs[len(l.runs)-1].zeros += count
	l.n += count
}

// Sum returns the fingerprint, once all leaves are there.
func (l *Leaves) Sum() (Fingerprint, error) {
	var f Fingerprint
	if l.sum != f {
		return l.sum, nil
	}
	if l.n != l.Total() {
		return f, fmt.Errorf("fingerprint of %d leaves where there should be %d", l.n, l.Total())
	}
	h := blake3.NewDeriveKey(context)
	_, _ = h.Write(binary.LittleEndian.AppendUint64(nil, uint64(l.size))) // a hash never fails
	zero := fullZeroLeaf()
	many := bytes.Repeat(zero[:], 1024)
	for _, r := range l.runs {
		for left := r.zeros; left > 0; {
			n := min(left, 1024)
			_, _ = h.Write(many[:n*DigestSize])
			left -= n
		}
		for _, d := range r.digests {
			_, _ = h.Write(d[:])
		}
	}
	h.Sum(f[:0])
	l.sum = f // nothing is added behind the last leaf
	return f, nil
}

// Extended returns the leaves of the same content followed by zeros up to size. last is the content of the last leaf
// when it is short; nil stands for zeros.
func (l *Leaves) Extended(size int64, last []byte) *Leaves {
	longer := NewLeaves(size)
	whole := l.size / LeafSize
	for i, d := range l.all() {
		if i < whole {
			longer.Append(d)
		}
	}
	if l.size%LeafSize > 0 {
		padded := make([]byte, min(LeafSize, size-whole*LeafSize))
		copy(padded, last)
		longer.Append(Leaf(padded))
	}
	if rest := longer.Total() - longer.n; rest > 0 {
		longer.AppendZeros(rest)
	}
	return longer
}

// all yields the number and digest of every leaf.
func (l *Leaves) all() iter.Seq2[int64, Digest] {
	return func(yield func(int64, Digest) bool) {
		var i int64
		for _, r := range l.runs {
			for range r.zeros {
				if !yield(i, fullZeroLeaf()) {
					return
				}
				i++
			}
			for _, d := range r.digests {
				if !yield(i, d) {
					return
				}
				i++
			}
		}
	}
}

// Range is a run of bytes of a disk.
type Range struct {
	Offset int64 `json:"offset"`
	Length int64 `json:"length"`
}

// Difference returns the ranges, whole leaves, in which two disks of one size differ: the first of them, at most limit.
func Difference(a, b *Leaves, limit int) []Range {
	next, stop := iter.Pull2(b.all())
	defer stop()
	var out []Range
	for i, d := range a.all() {
		_, other, ok := next()
		if ok && other == d {
			continue
		}
		off := i * LeafSize
		length := min(LeafSize, a.size-off)
		if n := len(out); n > 0 && out[n-1].Offset+out[n-1].Length == off {
			out[n-1].Length += length
			continue
		}
		if len(out) == limit {
			break
		}
		out = append(out, Range{off, length})
	}
	return out
}
