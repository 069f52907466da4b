package machines

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path"

	"bagaglio/core/host"
	"bagaglio/core/machine"
	"bagaglio/core/machine/ovf"
	"bagaglio/core/step"
	"bagaglio/core/storage"
	"bagaglio/internal/records"
	"bagaglio/internal/store"
)

// Shelf is a folder as the steps of jobs use it where a machine is on no host: its definition is a file there. It is always off.
func Shelf(folder storage.Folder, file string) step.Guests { return shelf{folder: folder, file: file} }

type shelf struct {
	idle
	folder storage.Folder
	file   string
}

// Define puts the definition there. What lies there already is not overwritten, unless it is the same.
func (s shelf) Define(_ context.Context, definition []byte) (host.Machine, error) {
	there, err := s.only()
	switch {
	case err == nil && string(there.Definition) == string(definition):
		return there, nil
	case err == nil:
		return there, fmt.Errorf("%w: %s has another definition already", host.ErrRefused, s.file)
	case !errors.Is(err, host.ErrNoMachine):
		return there, err
	}
	part := s.file + ".part"
	err = storage.WriteFile(s.folder, part, definition)
	if err == nil {
		err = s.folder.Rename(part, s.file)
	}
	if err == nil {
		err = s.folder.Sync(path.Dir(s.file))
	}
	if err != nil {
		return there, fmt.Errorf("putting the definition to %s: %w", s.file, err)
	}
	return s.only()
}

// Compare compares the files of a package with its manifest.
func (s shelf) Compare(ctx context.Context) (files int, n int64, err error) {
	sums, err := ovf.Manifest(s.folder, s.file)
	if err != nil {
		return 0, 0, fmt.Errorf("reading the manifest: %w", err)
	}
	for _, sum := range sums {
		if err := sum.Check(ctx, s.folder, path.Dir(s.file), func(read int) { n += int64(read) }); err != nil {
			return files, n, err
		}
		files++
	}
	return files, n, nil
}

// Forget takes the definition away that has the identity.
func (s shelf) Forget(_ context.Context, m host.Machine) error {
	there, err := s.only()
	if errors.Is(err, host.ErrNoMachine) || err == nil && there.UUID != m.UUID {
		return nil
	}
	if err == nil {
		err = s.folder.Remove(s.file)
	}
	if err == nil {
		err = s.folder.Sync(path.Dir(s.file))
	}
	return err
}

// only is the machine whose definition lies there.
func (s shelf) only() (host.Machine, error) {
	text, err := machine.Text(s.folder, s.file)
	if errors.Is(err, fs.ErrNotExist) {
		return host.Machine{}, fmt.Errorf("%w: there is no %s", host.ErrNoMachine, s.file)
	}
	if err != nil {
		return host.Machine{}, err
	}
	d, err := machine.Parse(s.file, text)
	if err != nil {
		return host.Machine{}, err
	}
	m := host.Machine{Name: d.Name, State: host.Off, Format: d.Format, Definition: text}
	if is, err := machine.Describe(d.Format, text); err == nil {
		m.UUID = is.UUID
	}
	return m, nil
}

func (s shelf) Machines(context.Context) ([]host.Machine, error) {
	m, err := s.only()
	if errors.Is(err, host.ErrNoMachine) {
		return nil, nil
	}
	return []host.Machine{m}, err
}

func (s shelf) Machine(_ context.Context, name string) (host.Machine, error) {
	m, err := s.only()
	if err == nil && m.Name != name {
		err = fmt.Errorf("%w: %s is the definition of %s", host.ErrNoMachine, s.file, m.Name)
	}
	return m, err
}

// Close does nothing: the folder is its pool's.
func (shelf) Close() error { return nil }

// Shelved is the machine whose definition is a file in a pool, and which is on no host.
func (m *Machines) Shelved(ctx context.Context, pool store.Pool, folder storage.Folder, name, way string) (Machine, error) {
	name, err := storage.Clean(name)
	if err != nil {
		return Machine{}, fmt.Errorf("%w: %w", records.ErrInvalid, err)
	}
	found, err := shelf{folder: folder, file: name}.only()
	if errors.Is(err, host.ErrNoMachine) {
		err = fmt.Errorf("the definition %s:%s: %w", pool.Name, name, store.ErrNotFound)
	}
	if err != nil {
		return Machine{}, fmt.Errorf("%w: %w", records.ErrInvalid, err)
	}
	pools, err := m.records.Pools(ctx)
	if err != nil {
		return Machine{}, err
	}
	out := Machine{Host: pool.Host, Machine: found}
	text := found.Definition
	if way != "" {
		if text, _, _, err = ovf.Choose(text, way); err != nil {
			return Machine{}, fmt.Errorf("%w: %w", records.ErrInvalid, err)
		}
	}
	if out.Is, out.Problem = machine.Describe(found.Format, text); out.Problem != nil {
		return out, nil
	}
	out.Is.Name = found.Name
	beside := func(file string) string {
		if file == "" || path.IsAbs(file) {
			return file
		}
		return path.Join(pool.Folder, path.Dir(name), file)
	}
	for _, d := range out.Is.Disks {
		out.Disks = append(out.Disks, lying(d, pool.Host, beside(d.File), pools))
	}
	out.Variables = lying(machine.Disk{}, pool.Host, beside(out.Is.Variables), pools)
	all := []Machine{out}
	err = m.know(ctx, all)
	return all[0], err
}
