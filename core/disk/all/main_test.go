package all

import (
	"os"
	"testing"

	"golang.org/x/sys/unix"
)

// TestMain puts the thousands of images that are made and synced here into memory where there is enough of it: what storage does with them
// is tested in core/job and test.
func TestMain(m *testing.M) {
	const memory, enough = "/dev/shm", 4 << 30
	var st unix.Statfs_t
	if err := unix.Statfs(memory, &st); err == nil && int64(st.Bavail)*st.Bsize > enough {
		_ = os.Setenv("TMPDIR", memory) // never fails with such a name
	}
	os.Exit(m.Run())
}
