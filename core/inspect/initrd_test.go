package inspect

import (
	"bufio"
	"bytes"
	"errors"
	"testing"

	"bagaglio/core/disk"

	"github.com/stretchr/testify/require"
)

// FuzzArchives: whatever an initial memory disk has, it is read or refused, in bounds.
func FuzzArchives(f *testing.F) {
	header := "070701" + "00000001" + "000081a4" + "00000000" + "00000000" + "00000001" + "00000000" + "00000004" + "00000000" + "00000000" + "00000000" + "00000000" +
		"00000008" + "00000000"
	f.Add([]byte(header + "nvme.ko\x00" + "\x00\x00" + "code"))
	f.Add([]byte("\x1f\x8b\x08\x00"))
	f.Add([]byte("\x28\xb5\x2f\xfd\x00"))
	f.Add(append(make([]byte, 64), "070701"...))
	f.Fuzz(func(t *testing.T, b []byte) {
		err := archives(t.Context(), bufio.NewReader(bytes.NewReader(b)), func(name string) { require.NotEmpty(t, name) })
		if err != nil && !errors.Is(err, disk.ErrUnsupported) {
			require.ErrorIs(t, err, disk.ErrDamaged)
		}
	})
}
