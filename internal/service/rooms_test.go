package service

import (
	"os/exec"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestRoomsImportDownward only: the core nothing that is above it, and no room of the service another one that is above or the API.
func TestRoomsImportDownward(t *testing.T) {
	out, err := exec.Command("go", "list", "-f", `{{.ImportPath}} {{join .Imports " "}}`, "bagaglio/core/...", "bagaglio/internal/...").
		Output()
	require.NoError(t, err)
	rooms := []string{"store", "records", "places", "machines", "planner", "queue", "service", "api"} // each may import those before it
	seen := 0
	for line := range strings.Lines(string(out)) {
		imports := strings.Fields(line)
		of := strings.TrimPrefix(imports[0], "bagaglio/")
		level := slices.Index(rooms, strings.TrimPrefix(of, "internal/"))
		for _, name := range imports[1:] {
			name, ours := strings.CutPrefix(name, "bagaglio/")
			if !ours {
				continue
			}
			seen++
			if strings.HasPrefix(of, "core/") {
				assert.True(t, strings.HasPrefix(name, "core/"), "%s imports %s", of, name)
			}
			if level < 0 || of == "internal/api" {
				continue
			}
			assert.NotEqual(t, "api", name, "%s knows the API", of)
			if other := slices.Index(rooms, strings.TrimPrefix(name, "internal/")); strings.HasPrefix(name, "internal/") {
				assert.Less(t, other, level, "%s imports %s", of, name)
			}
		}
	}
	assert.Greater(t, seen, 100)
}
