package hdd

import (
	"bytes"
	"context"
	_ "embed"
	"encoding/binary"
	"encoding/xml"
	"fmt"
	"path"
	"strings"
	"text/template"

	"bagaglio/core/disk"

	"github.com/google/uuid"
)

// presentState is the GUID that the image of a disk without snapshots has.
const presentState = "{5fbaabe3-6958-40ff-92a7-860e329aab41}"

// maxOwnBundle bounds what a bundle has beside its image.
const maxOwnBundle = 64 << 10

//go:embed bundle.xml
var bundleText string

var bundleTemplate = template.Must(template.New("bundle").Parse(bundleText))

// bundled tells whether the image lies in a folder with a descriptor, which a plain one needs to be known.
func bundled(layout string, o disk.Options) bool {
	if o.Bundle == "" {
		return layout == plain
	}
	return o.Bundle == bundleYes
}

func bundleSize(layout string, o disk.Options) int64 {
	if bundled(layout, o) {
		return maxOwnBundle
	}
	return 0
}

// names are those of the files of a layout: in a bundle the image, an empty file with the bundle's own name, and the
// descriptor.
func names(layout string) func(string, int64, disk.Options) []string {
	return func(name string, _ int64, o disk.Options) []string {
		if !bundled(layout, o) {
			return []string{name}
		}
		return []string{path.Join(name, imageName(name)), path.Join(name, path.Base(name)), path.Join(name, descriptorName)}
	}
}

func imageName(bundle string) string { return path.Base(bundle) + ".0." + presentState + ".hds" }

func create(t disk.Target) (disk.Writer, error) {
	if t.Size == 0 {
		return nil, disk.Unsupported("a disk of 0 bytes")
	}
	begin := func(t disk.Target) (disk.Writer, error) {
		if t.Layout == plain {
			return disk.CreateFlat(t, true, nil)
		}
		blocks, err := disk.NewBlockWriter(t, mib, firstCluster(t.Size), mib)
		return &writer{blocks}, err
	}
	if !bundled(t.Layout, t.Options) {
		return begin(t)
	}
	files := names(t.Layout)(t.Name, t.Size, t.Options)
	return disk.Split(t, t.Size, func(int, int64) (disk.Writer, error) {
		image := t
		image.Name = files[0]
		return begin(image)
	}, files, func() error { return describe(t, files) })
}

// describe makes the other files of a bundle.
func describe(t disk.Target, files []string) error {
	kind := "Compressed" // as the descriptor calls an expanding image, in which nothing is compressed
	if t.Layout == plain {
		kind = "Plain"
	}
	var text bytes.Buffer
	sectors := t.Size / sector
	err := bundleTemplate.Execute(&text, map[string]any{
		"Sectors":   sectors,
		"Cylinders": sectors / heads / track,
		"Heads":     heads,
		"Track":     track,
		"Cluster":   mib / sector,
		"ID": uuid.UUID(
			t.Identifier,
		),
		"Name":  escape(strings.TrimSuffix(path.Base(t.Name), path.Ext(t.Name))),
		"Image": presentState,
		"Type":  kind,
		"File":  escape(path.Base(files[0])),
	})
	if err != nil {
		return fmt.Errorf("making the descriptor: %w", err)
	}
	for i, content := range [][]byte{nil, text.Bytes()} {
		if err := t.WriteFile(files[i+1], content); err != nil {
			return err
		}
	}
	return nil
}

func escape(s string) string {
	var b bytes.Buffer
	_ = xml.EscapeText(&b, []byte(s)) // a buffer takes everything
	return b.String()
}

// writer makes an expanding file: header, table, clusters of 1 MiB on whole MiB.
type writer struct{ *disk.BlockWriter }

// Commit writes header and table, and syncs all.
func (w *writer) Commit(ctx context.Context) error {
	if err := ctx.Err(); err != nil {
		return err
	}
	err := w.WriteTable(tableAt, binary.LittleEndian, func(off int64) uint32 { return uint32(max(off, 0) / mib) })
	if err != nil {
		return err
	}
	h := header{cluster: mib / sector, entries: uint32(w.Count()), sectors: uint64(w.Target.Size / sector), data: uint32(w.First / sector)}
	return w.Finish(w.End(), disk.Part{What: "header", Bytes: h.encode(), Off: 0})
}
