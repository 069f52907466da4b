package ovf

import (
	"context"
	"crypto/sha1"
	"crypto/sha256"
	"crypto/sha512"
	"crypto/x509"
	"encoding/hex"
	"encoding/pem"
	"errors"
	"fmt"
	"hash"
	"io"
	"path"
	"regexp"
	"slices"
	"strings"

	"bagaglio/core/storage"
)

// Sum is what a manifest says of a file, by its name as seen from there (DSP0243, 6.1).
type Sum struct {
	File, Algorithm string
	Digest          []byte
}

// algorithms are those that manifests have: SHA-256, and of old and of others SHA-1 and SHA-512.
var algorithms = map[string]func() hash.Hash{"SHA1": sha1.New, "SHA256": sha256.New, "SHA512": sha512.New}

// Extensions of what lies beside an envelope under its name.
const (
	ManifestExtension    = ".mf"
	CertificateExtension = ".cert"
)

// mostSums bounds the lines of a manifest, and longest its length in bytes.
const mostSums, longest = 10_000, 4 << 20

// ErrManifest is the error for a manifest that cannot be read, or does not agree with the files.
var ErrManifest = errors.New("the manifest does not hold")

var line = regexp.MustCompile(`^(SHA-?1|SHA-?256|SHA-?512)\s*\((.+)\)\s*=\s*([0-9a-fA-F]+)\s*(.*)$`)

// ParseManifest reads a manifest.
func ParseManifest(text []byte) (all []Sum, err error) {
	for l := range strings.Lines(string(text)) {
		if l = strings.TrimSpace(l); l == "" {
			continue
		}
		m := line.FindStringSubmatch(l)
		if m == nil || m[4] != "" {
			return nil, fmt.Errorf("%w: a line is %q", ErrManifest, storage.Printable(l[:min(len(l), 80)]))
		}
		s := Sum{File: m[2], Algorithm: strings.ReplaceAll(m[1], "-", "")}
		if s.Digest, err = hex.DecodeString(m[3]); err != nil || len(s.Digest) != algorithms[s.Algorithm]().Size() {
			return nil, fmt.Errorf("%w: the digest of %s is no %s", ErrManifest, storage.Printable(s.File), s.Algorithm)
		}
		if slices.ContainsFunc(all, func(o Sum) bool { return o.File == s.File }) || len(all) == mostSums {
			return nil, fmt.Errorf("%w: it names %s twice, or more than %d files", ErrManifest, storage.Printable(s.File), mostSums)
		}
		all = append(all, s)
	}
	return all, nil
}

// Manifest reads the one beside an envelope; fs.ErrNotExist tells that there is none.
func Manifest(folder storage.Folder, envelope string) ([]Sum, error) {
	text, err := small(folder, strings.TrimSuffix(envelope, path.Ext(envelope))+ManifestExtension)
	if err != nil {
		return nil, err
	}
	return ParseManifest(text)
}

// small reads a small file.
func small(folder storage.Folder, name string) ([]byte, error) {
	file, err := folder.Open(name)
	if err != nil {
		return nil, err
	}
	size, err := file.Size()
	if err == nil && size > longest {
		err = fmt.Errorf("%w: %s has %d bytes", ErrManifest, name, size)
	}
	var text []byte
	if err == nil {
		text, err = io.ReadAll(io.NewSectionReader(file, 0, size))
	}
	return text, errors.Join(err, file.Close())
}

// Check reads a file that lies in the folder of a manifest, and compares it with what that says. read is told of each piece that was read.
func (s Sum) Check(ctx context.Context, folder storage.Folder, dir string, read func(n int)) error {
	name, err := storage.Clean(path.Join(dir, storage.ShownName(s.File)))
	if err != nil {
		return err
	}
	file, err := folder.Open(name)
	if err != nil {
		return fmt.Errorf("%w: it names %s: %w", ErrManifest, storage.Printable(s.File), err)
	}
	defer file.Close()
	size, err := file.Size()
	if err != nil {
		return err
	}
	sum, p := algorithms[s.Algorithm](), make([]byte, 1<<20)
	for off := int64(0); off < size; {
		if err := ctx.Err(); err != nil {
			return context.Cause(ctx)
		}
		n, err := file.ReadAt(p[:min(int64(len(p)), size-off)], off)
		if n == 0 && err != nil {
			return err
		}
		_, _ = sum.Write(p[:n]) // a hash takes everything
		read(n)
		off += int64(n)
	}
	if got := sum.Sum(nil); !slices.Equal(got, s.Digest) {
		return fmt.Errorf(
			"%w: the %s of %s is %x, and it says %x: fetch the package again",
			ErrManifest,
			s.Algorithm,
			storage.Printable(s.File),
			got,
			s.Digest,
		)
	}
	return nil
}

// Certificate says who signed a manifest, and whether the signature is of this one (DSP0243, 6.2); fs.ErrNotExist tells that nobody did. Whether whoever signed is to be
// believed is for people to say.
func Certificate(folder storage.Folder, envelope string) (who string, err error) {
	base := strings.TrimSuffix(envelope, path.Ext(envelope))
	text, err := small(folder, base+CertificateExtension)
	if err != nil {
		return "", err
	}
	manifest, err := small(folder, base+ManifestExtension)
	if err != nil {
		return "", err
	}
	first, rest, _ := strings.Cut(string(text), "\n")
	m := line.FindStringSubmatch(strings.TrimSpace(first))
	block, _ := pem.Decode([]byte(rest))
	if m == nil || block == nil {
		return "", fmt.Errorf("%w: its certificate has no signature, or is none", ErrManifest)
	}
	c, err := x509.ParseCertificate(block.Bytes)
	if err != nil {
		return "", fmt.Errorf("%w: its certificate: %w", ErrManifest, err)
	}
	signature, err := hex.DecodeString(m[3])
	if err != nil {
		return "", fmt.Errorf("%w: its signature: %w", ErrManifest, err)
	}
	kinds := map[string]x509.SignatureAlgorithm{"SHA1": x509.SHA1WithRSA, "SHA256": x509.SHA256WithRSA, "SHA512": x509.SHA512WithRSA}
	if err := c.CheckSignature(kinds[strings.ReplaceAll(m[1], "-", "")], manifest, signature); err != nil {
		return "", fmt.Errorf("%w: its signature is not of this manifest: %w", ErrManifest, err)
	}
	return fmt.Sprintf("%s, issued by %s, good until %s", c.Subject, c.Issuer, c.NotAfter.Format("2006-01-02")), nil
}
