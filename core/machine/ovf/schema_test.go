package ovf

import (
	"encoding/xml"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Namespaces of envelopes (DSP0243, 5.1).
const (
	envelopeSpace = "http://schemas.dmtf.org/ovf/envelope/1"
	itemSpace     = "http://schemas.dmtf.org/wbem/wscim/1/cim-schema/2/CIM_ResourceAllocationSettingData"
)

// node is an element of a document.
type node struct {
	XMLName  xml.Name
	Attrs    []xml.Attr `xml:",any,attr"`
	Text     string     `xml:",chardata"`
	Children []node     `xml:",any"`
}

func (n node) attr(name string) string {
	for _, a := range n.Attrs {
		if a.Name.Local == name && a.Name.Space == envelopeSpace {
			return a.Value
		}
	}
	return ""
}

func (n node) named(name string) (all []node) {
	for _, c := range n.Children {
		if c.XMLName.Local == name {
			all = append(all, c)
		}
	}
	return all
}

// rule is what the schema says of an element (dsp8023, by the clauses of DSP0243): its elements in their order, of which a star tells that there may be several and
// a question mark that there may be none, and its attributes, of which an exclamation mark tells that it has to be there.
type rule struct{ elements, attributes string }

var rules = map[string]rule{
	"Envelope":               {"References DiskSection? NetworkSection? DeploymentOptionSection? VirtualSystem", ""},                   // 6.2
	"References":             {"File*", ""},                                                                                            // 7.1
	"File":                   {"", "id! href! size compression chunkSize"},                                                             // 7.1
	"DiskSection":            {"Info Disk*", ""},                                                                                       // 9.1
	"Disk":                   {"", "diskId! fileRef capacity! capacityAllocationUnits format parentRef populatedSize"},                 // 9.1
	"NetworkSection":         {"Info Network*", ""},                                                                                    // 9.2
	"Network":                {"Description?", "name!"},                                                                                // 9.2
	"VirtualSystem":          {"Info Name? AnnotationSection? ProductSection* OperatingSystemSection? VirtualHardwareSection*", "id!"}, // 7.2
	"AnnotationSection":      {"Info Annotation", ""},                                                                                  // 9.4
	"OperatingSystemSection": {"Info Description?", "id! version"},                                                                     // 9.9
	"VirtualHardwareSection": {"Info System? Item* StorageItem* EthernetPortItem*", "transport id"},                                    // 8.1
	"Info":                   {"", "msgid"}, "Name": {"", "msgid"}, "Annotation": {"", "msgid"}, "Description": {"", "msgid"},
	// Of an item, in the order of their names (8.1; CIM_ResourceAllocationSettingData, 2.22).
	"Item": {
		"Address? AddressOnParent? AllocationUnits? AutomaticAllocation? AutomaticDeallocation? Caption? Connection* ConsumerVisibility? Description? " +
			"ElementName HostResource* InstanceID Limit? MappingBehavior? OtherResourceType? Parent? PoolID? Reservation? ResourceSubType? ResourceType " +
			"VirtualQuantity? VirtualQuantityUnits? Weight?",
		"required configuration bound",
	},
}

// conforms checks an envelope as the standard's schema does, and that what it refers to is there (DSP0243, 7.1, 8.3, 9.1, 9.2).
func conforms(t *testing.T, text []byte) {
	t.Helper()
	var root node
	require.NoError(t, xml.Unmarshal(text, &root))
	assert.Equal(t, xml.Name{Space: envelopeSpace, Local: "Envelope"}, root.XMLName)
	root.Attrs = nil // declarations of namespaces
	holds(t, root)
	files, disks, networks := map[string]bool{}, map[string]bool{}, map[string]bool{}
	for _, f := range root.named("References")[0].named("File") {
		assert.False(t, files[f.attr("id")], "two files with one ID")
		files[f.attr("id")] = true
		number(t, f.attr("size"))
	}
	for _, d := range root.named("DiskSection")[0].named("Disk") {
		assert.False(t, disks[d.attr("diskId")], "two disks with one ID")
		disks[d.attr("diskId")] = true
		assert.True(t, files[d.attr("fileRef")], "the file of a disk is not there")
		number(t, d.attr("capacity"))
	}
	for _, n := range root.named("NetworkSection")[0].named("Network") {
		assert.False(t, networks[n.attr("name")], "two networks of one name")
		networks[n.attr("name")] = true
	}
	items := map[string]bool{}
	for _, i := range root.named("VirtualSystem")[0].named("VirtualHardwareSection")[0].named("Item") {
		value := map[string]string{}
		for _, c := range i.Children {
			assert.Equal(t, itemSpace, c.XMLName.Space)
			value[c.XMLName.Local] = c.Text
		}
		assert.False(t, items[value["InstanceID"]], "two items with one ID")
		if parent := value["Parent"]; parent != "" {
			assert.True(t, items[parent], "what an item is on does not come before it")
		}
		items[value["InstanceID"]] = true
		if disk, ok := strings.CutPrefix(value["HostResource"], "ovf:/disk/"); ok {
			assert.True(t, disks[disk], "the disk of an item is not there")
		}
		if value["Connection"] != "" {
			assert.True(t, networks[value["Connection"]], "the network of a card is not there")
		}
		for _, name := range []string{"ResourceType", "InstanceID", "VirtualQuantity", "AddressOnParent"} {
			if value[name] != "" {
				number(t, value[name])
			}
		}
	}
}

func number(t *testing.T, text string) {
	t.Helper()
	_, err := strconv.ParseUint(text, 10, 63)
	require.NoError(t, err)
}

// holds checks an element, and those in it. What is of another namespace may be there where it says that nobody has to know it (5.3).
func holds(t *testing.T, n node) {
	t.Helper()
	name := n.XMLName.Local
	r, known := rules[name]
	require.True(t, known, "%s is in no schema", name)
	for _, a := range n.Attrs {
		assert.Equal(t, envelopeSpace, a.Name.Space, "%s of %s", a.Name.Local, name)
		assert.True(
			t,
			slices.Contains(strings.Fields(strings.ReplaceAll(r.attributes, "!", "")), a.Name.Local),
			"%s has no %s",
			name,
			a.Name.Local,
		)
	}
	for _, a := range strings.Fields(r.attributes) {
		if a, ok := strings.CutSuffix(a, "!"); ok {
			assert.NotEmpty(t, n.attr(a), "%s of %s is missing", a, name)
		}
	}
	own := slices.DeleteFunc(slices.Clone(n.Children), func(c node) bool {
		other := c.XMLName.Space != envelopeSpace && c.XMLName.Space != itemSpace
		if other {
			assert.Equal(t, "false", c.attr("required"), "%s in %s", c.XMLName.Local, name)
		}
		return other
	})
	for _, want := range strings.Fields(r.elements) {
		bare := strings.TrimRight(want, "*?")
		count := 0
		for len(own) > 0 && own[0].XMLName.Local == bare && (count == 0 || strings.HasSuffix(want, "*")) {
			if own[0].XMLName.Space == envelopeSpace {
				holds(t, own[0])
			}
			own, count = own[1:], count+1
		}
		assert.True(t, count > 0 || bare != want, "%s of %s is missing", bare, name)
	}
	if len(own) > 0 {
		assert.Fail(t, "not in its place", "%s in %s", own[0].XMLName.Local, name)
	}
}
