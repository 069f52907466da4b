package libvirt

import (
	"context"
	"encoding/xml"
	"fmt"
	"net"

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
	} `xml:"source"`
	Nothing struct{} `xml:"backingStore"`
}

func belowOf(e host.Export) (string, error) {
	b := below{Kind: "network", Format: driverOf{"raw"}}
	b.Source.Protocol, b.Source.Name = "nbd", e.Name
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
	on := map[string]string{} // what the images stand on, by their files
	for i, d := range is.Disks {
		e, ok := disks[d.Slot]
		if !ok {
			return m, nil, refused("nothing serves its disk %s", d.Slot)
		}
		is.Disks[i].File, is.Disks[i].Format = e.Over, "qcow2"
		if on[e.Over], err = belowOf(e); err != nil {
			return m, nil, err
		}
	}
	text, err := machine.Become(nil, "", format, is)
	if err != nil {
		return m, nil, err
	}
	file := ""
	text, err = machine.EditXML(text, func(around []string, e xml.StartElement) (edit machine.Edit) {
		if len(around) == 0 || around[len(around)-1] != "disk" {
			return edit
		}
		for _, a := range e.Attr {
			if e.Name.Local == "source" && a.Name.Local == "file" {
				file = a.Value
			}
		}
		if e.Name.Local == "target" {
			edit.Before, file = on[file], ""
		}
		return edit
	})
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
