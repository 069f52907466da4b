package storage

import (
	"math/rand/v2"
	"strings"
	"testing"
	"unicode"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestNamesAreShownAndMeant: whatever bytes a name has, what is shown of it can be printed, means the same file, and is what it is written
// as.
func TestNamesAreShownAndMeant(t *testing.T) {
	rnd := rand.New(rand.NewPCG(1, 2))
	parts := []string{"tide", "\u009b31m", "\u202etxt", "\xff", "\xc3", "\\", `\x`, `\x41`, `\xzz`, "ä", "\n", "\t", " ", "\u00a0", "潮"}
	for range 20_000 {
		raw := ""
		for range rnd.IntN(5) + 1 {
			raw += parts[rnd.IntN(len(parts))]
		}
		if strings.Trim(raw, ".") == "" {
			continue
		}
		shown := ShownName(raw)
		require.True(t, utf8.ValidString(shown), "%q", raw)
		require.False(t, strings.ContainsFunc(shown, func(r rune) bool { return !unicode.IsPrint(r) }), "%q", shown)
		require.Equal(t, raw, RawName(shown), "%q", shown)
		clean, err := Clean(shown)
		require.NoError(t, err)
		require.Equal(t, shown, clean, "it is listed as it is written")
	}
	assert.Equal(t, "tide-board.raw", ShownName("tide-board.raw"))
	assert.Equal(t, `a\b`, ShownName(`a\b`), "most backslashes are only that")
}

// TestNoNameLeavesByItsBytes: bytes that are written as numbers lead nowhere that the name itself would not.
func TestNoNameLeavesByItsBytes(t *testing.T) {
	for _, name := range []string{`\x2e\x2e/secret`, `a/\x2e\x2e/\x2e\x2e/b`, `\x2fetc`, `a\x00b`, `a\x2f\x2e\x2e\x2fb`, "../x", "/x"} {
		_, err := Clean(name)
		require.Error(t, err, name)
	}
}
