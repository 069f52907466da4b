package ovf

import (
	"fmt"
	"testing"

	"bagaglio/core/machine"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const several = `<Envelope><References><File id="f" href="a.vmdk"/></References><DiskSection><Disk diskId="d" fileRef="f"/></DiskSection>
<DeploymentOptionSection><Configuration id="small"><Label>Small</Label></Configuration>%s<Configuration id="big" %s/></DeploymentOptionSection>
<VirtualSystem id="tide-board"><VirtualHardwareSection>
<Item><InstanceID>1</InstanceID><ResourceType>3</ResourceType><VirtualQuantity>1</VirtualQuantity></Item>
<Item configuration="big huge"><InstanceID>1</InstanceID><ResourceType>3</ResourceType><VirtualQuantity>8</VirtualQuantity></Item>
<Item><InstanceID>2</InstanceID><ResourceType>4</ResourceType><VirtualQuantity>64</VirtualQuantity></Item>
<EthernetPortItem configuration="huge"><InstanceID>3</InstanceID><ResourceType>10</ResourceType><Connection>quay</Connection></EthernetPortItem>
<StorageItem><InstanceID>4</InstanceID><ResourceType>17</ResourceType><HostResource>ovf:/disk/d</HostResource></StorageItem>
</VirtualHardwareSection></VirtualSystem></Envelope>`

// TestWaysOfDeployment: an envelope has the hardware of the way that is chosen, of the one that it says itself, or of the first; what is for one counts in the place of
// what is for all. Disks and cards of 2.x are read.
func TestWaysOfDeployment(t *testing.T) {
	plain := fmt.Sprintf(several, `<Configuration id="huge"/>`, "")
	byItself := fmt.Sprintf(several, `<Configuration id="huge"/>`, `default="true"`)
	for _, c := range []struct {
		text, way, chosen string
		processors, cards int
	}{
		{plain, "", "small", 1, 0}, {plain, "big", "big", 8, 0}, {plain, "huge", "huge", 8, 1}, {byItself, "", "big", 8, 0}, {byItself, "small", "small", 1, 0},
	} {
		text, chosen, ways, err := Choose([]byte(c.text), c.way)
		require.NoError(t, err)
		assert.Equal(t, c.chosen, chosen)
		assert.Len(t, ways, 3)
		m, err := machine.Describe("ovf", text)
		require.NoError(t, err)
		assert.Equal(t, c.processors, m.Processors.Count, c.way)
		assert.Len(t, m.Networks, c.cards, c.way)
		require.Len(t, m.Disks, 1)
		assert.Equal(t, "a.vmdk", m.Disks[0].File)
	}
	_, _, _, err := Choose([]byte(plain), "tiny")
	require.ErrorContains(t, err, `not deployed in the way "tiny", but in small, huge, big`)
	_, _, _, err = Choose([]byte("<Envelope/>"), "small")
	require.ErrorContains(t, err, "deployed in one way only")
}
