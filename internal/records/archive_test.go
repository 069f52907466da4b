package records

import (
	"compress/gzip"
	"fmt"
	"io"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"bagaglio/internal/store"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestOldLinesOfTheLogArePutAside: those that are too many or too old leave the log, and are kept in files.
func TestOldLinesOfTheLogArePutAside(t *testing.T) {
	state := t.TempDir()
	records, err := Open(t.Context(), state, Options{LogLines: 100, LogAge: time.Hour}, slog.Default())
	require.NoError(t, err)
	defer records.Close()
	noon := time.Date(2026, 11, 1, 12, 0, 0, 0, time.UTC)
	const lines = archiveAtOnce + 150
	for i := range lines {
		require.NoError(t, records.AddEvent(t.Context(), store.Event{Who: "crew", What: fmt.Sprint("berth ", i)}, noon))
	}
	records.Archive(noon)
	left, err := records.Events(t.Context(), 0, "", lines)
	require.NoError(t, err)
	assert.Len(t, left, lines-archiveAtOnce, "less than so many do not leave yet")
	files, err := os.ReadDir(filepath.Join(state, archiveFolder))
	require.NoError(t, err)
	require.Len(t, files, 1)
	file, err := os.Open(filepath.Join(state, archiveFolder, files[0].Name()))
	require.NoError(t, err)
	defer file.Close()
	z, err := gzip.NewReader(file)
	require.NoError(t, err)
	b, err := io.ReadAll(z)
	require.NoError(t, err)
	assert.Equal(t, archiveAtOnce, strings.Count(string(b), "\n"))
	assert.Contains(t, string(b), `"berth 4999"`)
	for i := range archiveAtOnce {
		require.NoError(t, records.AddEvent(t.Context(), store.Event{Who: "crew", What: fmt.Sprint("late ", i)}, noon.Add(2*time.Hour)))
	}
	records.archive.LogLines = 0
	records.Archive(noon.Add(2 * time.Hour))
	left, err = records.Events(t.Context(), 0, "", 2*lines)
	require.NoError(t, err)
	assert.Len(t, left, lines, "by their age alone there are too few")
}
