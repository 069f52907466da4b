//go:build dist

// Image makes a container image of the service, as an archive: one file, from nothing. The same binary gives the same bytes.
package main

import (
	"archive/tar"
	"bytes"
	"flag"
	"io"
	"log"
	"os"
	"time"

	"github.com/google/go-containerregistry/pkg/name"
	v1 "github.com/google/go-containerregistry/pkg/v1"
	"github.com/google/go-containerregistry/pkg/v1/empty"
	"github.com/google/go-containerregistry/pkg/v1/mutate"
	"github.com/google/go-containerregistry/pkg/v1/tarball"
)

const (
	binaryAt = "usr/bin/bagaglio"
	stateAt  = "var/lib/bagaglio"
	user     = 65532 // nobody's, as images without a system use it
)

func main() {
	binary := flag.String("binary", "", "the program")
	arch := flag.String("arch", "", "what it was built for")
	version := flag.String("version", "", "of the image")
	made := flag.Int64("made", 0, "when, in seconds since 1970")
	out := flag.String("out", "", "the archive")
	flag.Parse()
	if err := write(*binary, *arch, *version, time.Unix(*made, 0).UTC(), *out); err != nil {
		log.Fatal(err)
	}
}

func write(binary, arch, version string, made time.Time, out string) error {
	program, err := os.ReadFile(binary)
	if err != nil {
		return err
	}
	files, err := layer(program, made)
	if err != nil {
		return err
	}
	l, err := tarball.LayerFromOpener(func() (io.ReadCloser, error) { return io.NopCloser(bytes.NewReader(files)), nil })
	if err != nil {
		return err
	}
	image, err := mutate.AppendLayers(empty.Image, l)
	if err != nil {
		return err
	}
	config, err := image.ConfigFile()
	if err != nil {
		return err
	}
	config = config.DeepCopy()
	config.Architecture, config.OS, config.Created = arch, "linux", v1.Time{Time: made}
	config.Config = v1.Config{
		User:         "65532:65532",
		Entrypoint:   []string{"/" + binaryAt},
		Cmd:          []string{"serve", "--listen", "0.0.0.0:2247", "--own-authority"},
		Env:          []string{"BAGAGLIO_STATE=/" + stateAt, "HOME=/" + stateAt, "PATH=/usr/bin"},
		Volumes:      map[string]struct{}{"/" + stateAt: {}},
		ExposedPorts: map[string]struct{}{"2247/tcp": {}},
		Labels: map[string]string{
			"org.opencontainers.image.title":    "Bagaglio",
			"org.opencontainers.image.version":  version,
			"org.opencontainers.image.licenses": "Apache-2.0",
		},
	}
	if image, err = mutate.ConfigFile(image, config); err != nil {
		return err
	}
	tag, err := name.NewTag("bagaglio:" + version)
	if err != nil {
		return err
	}
	return tarball.WriteToFile(out, tag, image)
}

// layer has the program, the folder for its state, and one for what it makes on the way.
func layer(program []byte, made time.Time) ([]byte, error) {
	var out bytes.Buffer
	w := tar.NewWriter(&out)
	for _, f := range []tar.Header{
		{Name: "usr/bin/", Mode: 0o755, Typeflag: tar.TypeDir},
		{Name: binaryAt, Mode: 0o755, Typeflag: tar.TypeReg, Size: int64(len(program))},
		{Name: stateAt + "/", Mode: 0o700, Typeflag: tar.TypeDir, Uid: user, Gid: user},
		{Name: "tmp/", Mode: 0o1777, Typeflag: tar.TypeDir},
	} {
		f.ModTime = made
		if err := w.WriteHeader(&f); err != nil {
			return nil, err
		}
		if f.Typeflag == tar.TypeReg {
			if _, err := w.Write(program); err != nil {
				return nil, err
			}
		}
	}
	return out.Bytes(), w.Close()
}
