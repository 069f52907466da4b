package libvirt

import (
	"context"
	"encoding/xml"
	"fmt"
	"net"
	"slices"

	"bagaglio/core/host"
	"bagaglio/core/machine"

	"github.com/digitalocean/go-libvirt"
)

// below is what an image stands on that is read over the network (formatdomain, "backingStore").
type below struct {
	XMLName xml.Name `xml:"backingStore"`
	Kind    string   `xml:"type,attr"`
	Format  driverOf `xml:"format"`
	Source  struct {
		Protocol string `xml:"protocol,attr"`
		Name     string `xml:"name,attr"`
		Host     struct {
			Transport string `xml:"transport,attr,omitempty"`
			Socket    string `xml:"socket,attr,omitempty"`
			Name      string `xml:"name,attr,omitempty"`
			Port      string `xml:"port,attr,omitempty"`
		} `xml:"host"`
		// Reconnect has requests wait for a line that was cut, in seconds. Older daemons do not know it.
		Reconnect struct {
			Delay int `xml:"delay,attr"`
		} `xml:"reconnect"`
	} `xml:"source"`
	Nothing struct{} `xml:"backingStore"`
}

// waitsFor is how many seconds a guest waits for a disk that is served before it is suspended.
const waitsFor = 60

func belowOf(e host.Export) (string, error) {
	b := below{Kind: "network", Format: driverOf{"raw"}}
	b.Source.Protocol, b.Source.Name, b.Source.Reconnect.Delay = "nbd", e.Name, waitsFor
	if at := &b.Source.Host; e.Socket != "" {
		at.Transport, at.Socket = "unix", e.Socket
	} else {
		name, port, err := net.SplitHostPort(e.Address)
		if err != nil {
			return "", fmt.Errorf("where a disk is served: %w", err)
		}
		at.Name, at.Port = name, port
	}
	text, err := xml.Marshal(b)
	return string(text), err
}

// Try starts a machine that the daemon does not keep, and ends with the connection.
func (h *Host) Try(
	ctx context.Context,
	is machine.Machine,
	disks map[string]host.Export,
) (m host.Machine, end func(context.Context) error, err error) {
	text, err := borrowed(nil, is, disks)
	if err != nil {
		return m, nil, err
	}
	err = h.call(ctx, func() error {
		d, err := h.l.DomainCreateXML(string(text), libvirt.DomainStartAutodestroy)
		if err == nil {
			m, err = h.machine(d)
		}
		return err
	})
	if err != nil {
		return m, nil, fmt.Errorf("starting %s: %w", is.Name, err)
	}
	return m, func(ctx context.Context) error { return h.CutOff(ctx, m) }, nil
}

// Borrow makes a machine known whose disks are read from exports.
func (h *Host) Borrow(ctx context.Context, definition []byte, disks map[string]host.Export) (m host.Machine, err error) {
	is, err := machine.Describe(format, definition)
	if err != nil {
		return m, err
	}
	text, err := borrowed(definition, is, disks)
	if err != nil {
		return m, err
	}
	return h.Define(ctx, text)
}

// borrowed is a definition, made anew or of an old one, whose disks are images over exports. A guest that cannot read or write is suspended (formatdomain, "error_policy").
func borrowed(definition []byte, is machine.Machine, disks map[string]host.Export) ([]byte, error) {
	is.Disks = slices.Clone(is.Disks)
	below := map[string]string{} // what the images stand on, by their files
	for i, d := range is.Disks {
		e, ok := disks[d.Slot]
		if !ok {
			return nil, refused("nothing serves its disk %s", d.Slot)
		}
		on, err := belowOf(e)
		if err != nil {
			return nil, err
		}
		is.Disks[i].File, is.Disks[i].Format, below[e.Over] = e.Over, "qcow2", on
	}
	from := format
	if definition == nil {
		from = ""
	}
	text, err := machine.Become(definition, from, format, is)
	if err != nil {
		return nil, err
	}
	files, n := filesIn(text), -1
	return machine.EditXML(text, func(around []string, e xml.StartElement) (edit machine.Edit) {
		if e.Name.Local == "disk" {
			n++
		}
		if len(around) == 0 || around[len(around)-1] != "disk" || below[files[n]] == "" {
			return edit
		}
		switch e.Name.Local {
		case "driver":
			edit.Attributes = map[string]string{"error_policy": "stop", "rerror_policy": "stop"}
		case "target":
			edit.Before = below[files[n]]
		}
		return edit
	})
}

// filesIn are the files of the drives of a definition, in its order; empty for one that has none.
func filesIn(text []byte) (files []string) {
	_, _ = machine.EditXML(text, func(around []string, e xml.StartElement) (edit machine.Edit) { // whoever edits it is told what is wrong
		if e.Name.Local == "disk" {
			files = append(files, "")
		}
		if e.Name.Local != "source" || len(around) == 0 || around[len(around)-1] != "disk" {
			return edit
		}
		for _, a := range e.Attr {
			if a.Name.Local == "file" {
				files[len(files)-1] = a.Value
			}
		}
		return edit
	})
	return files
}
