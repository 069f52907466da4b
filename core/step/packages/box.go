package packages

import (
	"errors"
	"path"
	"time"

	"bagaglio/core/machine/ovf"
	"bagaglio/core/storage"
	"bagaglio/core/storage/archive"
)

// open begins to write the package.
func (w *work) open() (box, error) {
	if !w.body.Archive {
		return &loose{folder: storage.Sub(w.Ends.Destination, w.staging()), body: w.body.Name}, nil
	}
	name := path.Base(w.body.Into.Path)
	file, err := w.Ends.Destination.Create(path.Join(w.staging(), name))
	if err != nil {
		return nil, err
	}
	a := &one{archive: file, writer: archive.NewWriter(file, time.Now()), name: name}
	envelope, manifest, err := w.lengths()
	if err == nil {
		a.envelope, err = a.writer.Reserve(w.body.Name+ovf.Extension, int64(envelope))
	}
	if err == nil {
		a.manifest, err = a.writer.Reserve(w.body.Name+ovf.ManifestExtension, int64(manifest))
	}
	if err != nil {
		return nil, errors.Join(err, file.Close())
	}
	return a, nil
}

// loose are the files of a package in a folder.
type loose struct {
	folder storage.Folder
	body   string
	made   []string
}

func (l *loose) into() storage.Folder { return l.folder }

func (l *loose) file(name string) (storage.File, error) {
	l.made = append(l.made, name)
	return l.folder.Open(name)
}

func (l *loose) finish(envelope, manifest []byte) error {
	return errors.Join(
		storage.WriteFile(l.folder, l.body+ovf.ManifestExtension, manifest), storage.WriteFile(l.folder, l.body+ovf.Extension, envelope),
	)
}

func (l *loose) names() []string {
	return append(l.made, l.body+ovf.ManifestExtension, l.body+ovf.Extension)
}
func (l *loose) close() error { return nil }

// one is a package that is one archive.
type one struct {
	archive            storage.File
	writer             *archive.Writer
	name               string
	envelope, manifest *archive.Entry
	last               *archive.Into
}

func (o *one) into() storage.Folder {
	o.last = o.writer.Into()
	return o.last
}

func (o *one) file(string) (storage.File, error) {
	made := o.last.Made()
	return made, made.Done()
}

func (o *one) finish(envelope, manifest []byte) error {
	if _, err := o.envelope.WriteAt(envelope, 0); err != nil {
		return err
	}
	if _, err := o.manifest.WriteAt(manifest, 0); err != nil {
		return err
	}
	return o.writer.Finish()
}

func (o *one) names() []string { return []string{o.name} }
func (o *one) close() error    { return o.archive.Close() }
