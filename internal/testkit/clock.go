package testkit

import (
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

const (
	clockTag = "nomsgpack,clock"
	// clockVariable says by how many seconds the clock of a process is off that was built by offClock. What measures how long something takes is
	// right, as on a computer whose clock was set wrong.
	clockVariable = "BAGAGLIO_TEST_CLOCK"
)

var buildOffClock = sync.OnceValues(func() (string, error) { return buildWith(clockTag) })

// JoinOff is Join for a porter on a computer whose clock is off. All packages are built anew for that, with another time.Now, which takes minutes the first time.
func JoinOff(t testing.TB, s *Service, name string, off time.Duration) *Porter {
	t.Helper()
	path, err := buildOffClock()
	require.NoError(t, err)
	return join(t, s, name, func(p *Porter) {
		p.binary, p.in = path, []string{"env", fmt.Sprintf("%s=%d", clockVariable, int(off.Seconds()))}
	})
}

// clockOverlay writes what the compiler reads in place of the file of the standard library that asks the system for the time (go help build).
func clockOverlay(folder string) (string, error) {
	const asks, begin = "sec, nsec, mono := runtimeNow()", "func Now() Time {"
	root, err := exec.Command("go", "env", "GOROOT").Output()
	if err != nil {
		return "", err
	}
	file := filepath.Join(strings.TrimSpace(string(root)), "src/time/time.go")
	text, err := os.ReadFile(file)
	if err != nil {
		return "", err
	}
	before, now, found := strings.Cut(string(text), begin)
	if !found || !strings.Contains(now, asks) {
		return "", fmt.Errorf("%s does not ask for the time as it did", file)
	}
	const off = asks + `
	if off, ok := syscall.Getenv("` + clockVariable + `"); ok {
		by, before := int64(0), false
		for _, c := range off {
			if c == '-' {
				before = true
				continue
			}
			by = by*10 + int64(c-'0')
		}
		if before {
			by = -by
		}
		sec += by
	}`
	changed := strings.Replace(before, "import (", "import (\n\t\"syscall\"", 1) + begin + strings.Replace(now, asks, off, 1)
	instead, overlay := filepath.Join(folder, "time.go.txt"), filepath.Join(folder, "overlay.json")
	if err := os.WriteFile(instead, []byte(changed), 0o644); err != nil {
		return "", err
	}
	list, err := json.Marshal(map[string]map[string]string{"Replace": {file: instead}})
	if err != nil {
		return "", err
	}
	return overlay, os.WriteFile(overlay, list, 0o644)
}
