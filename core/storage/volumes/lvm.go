package volumes

import (
	"encoding/json"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"time"
)

// lvm are the tools of LVM (lvs(8), lvcreate(8) and their siblings).
type lvm struct {
	set
	on Computer
}

// report is what they print (lvmreport(7)).
type report struct {
	Report []struct {
		Volumes []struct {
			Name string `json:"lv_name"`
			Path string `json:"lv_path"`
			UUID string `json:"lv_uuid"`
			Size string `json:"lv_size"`
			Attr string `json:"lv_attr"`
			Made string `json:"lv_time"` // in seconds since 1970
			Data string `json:"data_percent"`
		} `json:"lv"`
		Groups []struct {
			Size   string `json:"vg_size"`
			Free   string `json:"vg_free"`
			Extent string `json:"vg_extent_size"`
		} `json:"vg"`
	} `json:"report"`
}

func (l *lvm) report(tool, fields, of string) (r report, err error) {
	said, err := run(
		l.on,
		tool,
		"--config",
		`report/time_format="%s"`,
		"--reportformat",
		"json",
		"--units",
		"b",
		"--nosuffix",
		"--options",
		fields,
		of,
	)
	if err != nil {
		return r, err
	}
	if err := json.Unmarshal([]byte(said), &r); err != nil || len(r.Report) != 1 {
		return r, fmt.Errorf("what %s prints is not understood: %w", tool, err)
	}
	return r, nil
}

// Letters of the attributes: what kind a volume is, and whether it is open.
const (
	kindAt, openAt = 0, 5
	ofDisks        = "-oOsSVWwrlcm" // plain, with snapshots, snapshots, thin, converting, mirrored and striped ones: those that have content of a guest
	kindThin       = 'V'
)

func (l *lvm) list() (all []volume, err error) {
	r, err := l.report("lvs", "lv_name,lv_path,lv_uuid,lv_size,lv_attr,lv_time,data_percent", l.group)
	if err != nil {
		return nil, err
	}
	for _, v := range r.Report[0].Volumes {
		size, err := strconv.ParseInt(v.Size, 10, 64)
		made, madeErr := strconv.ParseInt(v.Made, 10, 64)
		if err != nil || madeErr != nil || len(v.Attr) <= openAt {
			return nil, fmt.Errorf("what lvs prints of %s is not understood", v.Name)
		}
		if strings.IndexByte(ofDisks, v.Attr[kindAt]) < 0 || v.Path == "" {
			continue
		}
		room := size
		if part, err := strconv.ParseFloat(v.Data, 64); err == nil {
			room = int64(float64(size) * part / 100)
		}
		all = append(all, volume{
			name: v.Name, path: v.Path, id: v.UUID, size: size, room: room, made: time.Unix(made, 0),
			open: v.Attr[openAt] == 'o', thin: v.Attr[kindAt] == kindThin,
		})
	}
	return all, nil
}

func (l *lvm) isOpen(v volume) (bool, error) { return v.open, nil }

func (l *lvm) numbers() (total, free, extent int64, err error) {
	r, err := l.report("vgs", "vg_size,vg_free,vg_extent_size", l.group)
	if err != nil || len(r.Report[0].Groups) != 1 {
		return 0, 0, 0, fmt.Errorf("asking for the group %s: %w", l.group, err)
	}
	g := r.Report[0].Groups[0]
	if _, err := fmt.Sscan(g.Size+" "+g.Free+" "+g.Extent, &total, &free, &extent); err != nil {
		return 0, 0, 0, fmt.Errorf("what vgs prints is not understood: %w", err)
	}
	return total, free, extent, nil
}

func (l *lvm) unit() (int64, error) {
	_, _, extent, err := l.numbers()
	return extent, err
}

func (l *lvm) room() (total, free int64, err error) {
	if l.thin == "" {
		total, free, _, err = l.numbers()
		return total, free, err
	}
	r, err := l.report("lvs", "lv_size,data_percent", l.group+"/"+l.thin)
	if err != nil || len(r.Report[0].Volumes) != 1 {
		return 0, 0, fmt.Errorf("asking for the thin pool %s: %w", l.thin, err)
	}
	v := r.Report[0].Volumes[0]
	total, err = strconv.ParseInt(v.Size, 10, 64)
	if err != nil {
		return 0, 0, fmt.Errorf("what lvs prints is not understood: %w", err)
	}
	part, err := strconv.ParseFloat(v.Data, 64)
	if err != nil {
		return 0, 0, fmt.Errorf("what lvs prints is not understood: %w", err)
	}
	return total, total - int64(float64(total)*part/100), nil
}

func bytes(n int64) string { return strconv.FormatInt(n, 10) + "b" }

func (l *lvm) zeros() bool { return l.thin != "" }

func (l *lvm) make(name string, size int64) (err error) {
	if l.thin != "" {
		_, err = run(l.on, "lvcreate", "--yes", "--name", name, "--virtualsize", bytes(size), "--thinpool", l.thin, l.group)
		return err
	}
	_, err = run(l.on, "lvcreate", "--yes", "--wipesignatures", "n", "--zero", "n", "--name", name, "--size", bytes(size), l.group)
	return err
}

func (l *lvm) grow(name string, size int64) error {
	_, err := run(l.on, "lvextend", "--size", bytes(size), l.group+"/"+name)
	return err
}

func (l *lvm) rename(from, to string) error {
	_, err := run(l.on, "lvrename", l.group, from, to)
	return err
}

// roomOf is the part of a volume that may be written to while a snapshot of it is there, where that takes room of its own, as a divisor.
const roomOf = 4

func (l *lvm) snapshot(of volume, name string) error {
	args := []string{"lvcreate", "--yes", "--snapshot", "--setactivationskip", "n", "--name", name}
	if !of.thin {
		_, free, extent, err := l.numbers()
		if err != nil {
			return err
		}
		size := min(of.size/roomOf+extent, free) / extent * extent
		if size == 0 {
			return errors.New("there is no room for a snapshot in its group")
		}
		args = append(args, "--size", bytes(size))
	}
	_, err := run(l.on, append(args, l.group+"/"+of.name)...)
	return err
}

func (l *lvm) drop(_, name string) error { return l.remove(name) }

func (l *lvm) remove(name string) error {
	_, err := run(l.on, "lvremove", "--yes", l.group+"/"+name)
	return err
}
