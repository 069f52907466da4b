package console

import (
	"net/url"
	"os"
	"testing"

	"bagaglio/internal/demo"
	"bagaglio/internal/standin"
	"bagaglio/internal/testkit"
	"bagaglio/internal/testkit/standins"

	"github.com/stretchr/testify/require"
)

// TestAGuestIsFitted by the console: that it has no driver for its new bus is said with a remedy, what would be changed is shown line by line, and the receipt says it again.
func TestAGuestIsFitted(t *testing.T) {
	t.Parallel()
	if os.Getuid() != 0 {
		t.Skip("files inside of copies are written while they are mounted, which takes root")
	}
	s := world(t)
	quay := standins.Join(t, s.Service, "quay", "harbour", standin.Traits{})
	standins.Join(t, s.Service, "lighthouse", "lamp-room", standin.Traits{})
	kiosk, err := demo.MakeKiosk(t.Context(), t.TempDir())
	require.NoError(t, err)
	content, err := os.ReadFile(kiosk)
	require.NoError(t, err)
	quay.Ticketing(t, content)
	p := testkit.Browse(t, 1280, 800)
	p.Open(s.Link)
	p.Open(s.Address + "/machines/move?request=" + url.QueryEscape(`{"kind":"copy-machine","machine":"quay:ticketing"}`))
	p.AwaitText("Choose a pool of a host")
	p.Fill("Pool of its disks", "lamp-room")
	p.Click("Change something on its way")
	p.Fill("Bus of its disks", "virtio")
	p.AwaitText("has no driver for virtio")
	p.Click("Fit the guest to it, on the copy")
	p.AwaitText("Inside of lamp-room:ticketing/ticketing.raw, once it is proven")
	p.AwaitText("-/dev/sda3 / ext4 defaults 0 1")
	p.AwaitText("are put behind it")
	p.AwaitText("Name=enp0s25")
	if file := os.Getenv("BAGAGLIO_PICTURE"); file != "" {
		p.Picture(file)
	}
	p.Click("Start")
	p.AwaitText("Proven: what arrived is what left")
	p.AwaitText("on the proven copy, so that its guest starts in its new place")
	p.AwaitText("+UUID=")
}
