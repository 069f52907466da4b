package inspect

import (
	"os"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestTheRightCopy of a partition table is used: where the first one is gone or wrong and the second is right, that one, and it is said.
func TestTheRightCopy(t *testing.T) {
	for name, c := range map[string]struct {
		at    int64 // what is changed
		write string
		says  string
	}{
		"whole":                   {at: 500, write: "\x00"},
		"the first header":        {at: 512, write: "        ", says: "is not there: the second one is used"},
		"a field of it":           {at: 512 + 56, write: "\xff\xff", says: "the second copy is used, which is right"},
		"its entries":             {at: 1024 + 32, write: "\x00\x00\xff", says: "the second copy is used, which is right"},
		"both of them":            {at: 1024 + 32, write: "\x00\x00\xff", says: "the checksum of the partition table's entries is wrong"},
		"the second one's header": {at: 32<<20 - 512 + 56, write: "\xff\xff"},
	} {
		t.Run(name, func(t *testing.T) {
			file := made(
				t,
				32<<20,
				"label: gpt\nstart=1MiB, size=8MiB, type=L, name=\"system\"\nstart=10MiB, size=8MiB, type=L, name=\"data\"\n",
				"sfdisk -q $F",
			)
			f, err := os.OpenFile(file.Name(), os.O_RDWR, 0)
			require.NoError(t, err)
			_, err = f.WriteAt([]byte(c.write), c.at)
			require.NoError(t, err)
			if name == "both of them" {
				_, err = f.WriteAt([]byte("\xff\xff"), 32<<20-512+56)
				require.NoError(t, err)
			}
			require.NoError(t, f.Close())
			found, err := Inside(fileDisk{file})
			require.NoError(t, err)
			assert.Equal(t, "gpt", found.Table)
			assert.Equal(t, int64(512), found.SectorSize)
			if c.says == "" {
				assert.Empty(t, found.Doubts)
			} else {
				require.NotEmpty(t, found.Doubts)
				assert.Contains(t, found.Doubts[0], c.says)
			}
			if name != "both of them" {
				require.Len(t, found.Partitions, 2)
				assert.Equal(t, int64(1<<20), found.Partitions[0].Offset)
			}
		})
	}
}
