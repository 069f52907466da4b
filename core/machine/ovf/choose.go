package ovf

import (
	"encoding/xml"
	"fmt"
	"slices"
	"strings"

	"bagaglio/core/machine"
	"bagaglio/core/storage"
)

// Way is one of the ways in which a package can be deployed (DSP0243, 9.8).
type Way struct{ ID, Label string }

// Property is something that a guest asks for (9.5).
type Property struct {
	Key, Label string
	Value      string // that it has where nobody says otherwise
	Secret     bool
}

// hardware is what of an envelope depends on how it is deployed.
type hardware struct {
	Options []struct {
		ID      string `xml:"id,attr"`
		Default string `xml:"default,attr"`
		Label   string `xml:"Label"`
	} `xml:"DeploymentOptionSection>Configuration"`
	Systems []struct {
		Hardware struct {
			Items []struct {
				XMLName       xml.Name
				ID            string `xml:"InstanceID"`
				Configuration string `xml:"configuration,attr"`
			} `xml:",any"`
		} `xml:"VirtualHardwareSection"`
	} `xml:"VirtualSystem"`
}

// Choose returns an envelope without what is only for other ways of deployment than one, so that it has no more than that one; empty takes the one that it says itself, or the first. It fails for a way
// that there is not. chosen is the one that was taken, and ways are all, the one that is taken without a choice first; both are empty for an envelope without any.
func Choose(text []byte, way string) (out []byte, chosen string, ways []Way, err error) {
	var h hardware
	if err := xml.Unmarshal(text, &h); err != nil {
		return nil, "", nil, fmt.Errorf("%w: %w", machine.ErrOther, err)
	}
	for _, o := range h.Options {
		w := Way{ID: o.ID, Label: storage.Printable(o.Label)}
		if o.Default == "true" || o.Default == "1" {
			ways = slices.Insert(ways, 0, w)
		} else {
			ways = append(ways, w)
		}
	}
	switch {
	case len(ways) == 0 && way == "":
		return text, "", nil, nil
	case len(ways) == 0:
		return nil, "", nil, fmt.Errorf("the package is deployed in one way only, not in the way %q", way)
	case way == "":
		way = ways[0].ID
	case !slices.ContainsFunc(ways, func(w Way) bool { return w.ID == way }):
		return nil, "", ways, fmt.Errorf("the package is not deployed in the way %q, but in %s", way, wayNames(ways))
	}
	out, err = machine.EditXML(text, h.edit(way))
	return out, way, ways, err
}

// edit drops the items that are not for a way. An item for it counts in the place of one with the same ID that is for all.
func (h hardware) edit(way string) func([]string, xml.StartElement) machine.Edit {
	system, at := -1, 0
	return func(around []string, e xml.StartElement) (edit machine.Edit) {
		switch {
		case len(around) == 1 && e.Name.Local == "DeploymentOptionSection":
			edit.Drop = true
		case len(around) == 1 && e.Name.Local == "VirtualSystem":
			system, at = system+1, 0
		case len(around) == 3 && around[2] == "VirtualHardwareSection" && around[1] == "VirtualSystem":
			items := h.Systems[system].Hardware.Items
			item := items[at]
			at++
			isFor := func(configuration string) bool { return slices.Contains(strings.Fields(configuration), way) }
			if item.Configuration != "" {
				edit.Drop = !isFor(item.Configuration)
				break
			}
			for _, other := range items {
				edit.Drop = edit.Drop || item.ID != "" && other.ID == item.ID && isFor(other.Configuration)
			}
		}
		return edit
	}
}

func wayNames(ways []Way) string {
	var ids []string
	for _, w := range ways {
		ids = append(ids, storage.Printable(w.ID))
	}
	return strings.Join(ids, ", ")
}
