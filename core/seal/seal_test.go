package seal

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// sealed makes a chain of seals, and the key that made it.
func sealed(t *testing.T, n int) (*Key, []string) {
	t.Helper()
	file := filepath.Join(t.TempDir(), "key")
	k, err := OpenKey(file)
	require.NoError(t, err)
	var seals []string
	previous := ""
	for i := range n {
		s, err := k.Seal(
			Link{Number: int64(i + 1), Previous: previous, Job: int64(10 * i), Receipt: fmt.Appendf(nil, `{"outcome":"proven","bytes_read":%d}`, i)},
		)
		require.NoError(t, err)
		seals, previous = append(seals, s), Digest(s)
	}
	again, err := OpenKey(file) // which is there now
	require.NoError(t, err)
	assert.Equal(t, k.Public().KeyID, again.Public().KeyID)
	info, err := os.Stat(file)
	require.NoError(t, err)
	assert.EqualValues(t, 0o600, info.Mode().Perm())
	return again, seals
}

func check(k *Key, seals []string) (Chain, error) {
	c := Chain{Public: k.Public()}
	for _, s := range seals {
		if _, err := c.Add(s); err != nil {
			return c, err
		}
	}
	return c, nil
}

// TestAChangeIsSeen: whatever is done to a chain but to add to it or to cut its end.
func TestAChangeIsSeen(t *testing.T) {
	k, seals := sealed(t, 5)
	c, err := check(k, seals)
	require.NoError(t, err)
	assert.EqualValues(t, 5, c.Length)
	assert.Equal(t, Digest(seals[4]), c.Head)
	other, foreign := sealed(t, 5)
	replaced, err := k.Seal(Link{Number: 2, Previous: Digest(seals[0]), Job: 7, Receipt: []byte(`{"outcome":"proven"}`)})
	require.NoError(t, err)
	for name, change := range map[string]func(s []string) []string{
		"a letter": func(s []string) []string { s[2] = s[2][:40] + flip(s[2][40:41]) + s[2][41:]; return s },
		"the signature": func(s []string) []string {
			s[2] = s[2][:len(s[2])-20] + flip(s[2][len(s[2])-20:][:1]) + s[2][len(s[2])-19:]
			return s
		},
		"one is gone":        func(s []string) []string { return append(s[:1], s[2:]...) },
		"two are swapped":    func(s []string) []string { s[1], s[2] = s[2], s[1]; return s },
		"one comes twice":    func(s []string) []string { return append(s[:2], s[1:]...) },
		"one is signed anew": func(s []string) []string { s[1] = replaced; return s },
		"of another key":     func(s []string) []string { s[4] = foreign[4]; return s },
		"not signed":         func(s []string) []string { s[0] = "e30." + strings.SplitN(s[0], ".", 2)[1]; return s },
		"nothing at all":     func(s []string) []string { s[3] = ""; return s },
	} {
		_, err := check(k, change(append([]string(nil), seals...)))
		require.ErrorIs(t, err, ErrBroken, name)
	}
	_, err = check(other, seals)
	require.ErrorIs(t, err, ErrBroken, "another key")
}

// flip makes another letter of one.
func flip(s string) string {
	if s == "A" {
		return "B"
	}
	return "A"
}

func TestKeysThatAreNone(t *testing.T) {
	file := filepath.Join(t.TempDir(), "key")
	k, _ := sealed(t, 0)
	public, err := k.Public().MarshalJSON()
	require.NoError(t, err)
	for _, content := range []string{"", "{}", string(public)} {
		require.NoError(t, os.WriteFile(file, []byte(content), 0o600))
		_, err := OpenKey(file)
		require.Error(t, err, content)
		b, err := os.ReadFile(file)
		require.NoError(t, err)
		assert.Equal(t, content, string(b), "a file that is there is never replaced")
	}
}
