package secret

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What one box sealed, a box with the same secret opens, for the same purpose, and no other does.
func TestBox(t *testing.T) {
	path := filepath.Join(t.TempDir(), "secret")
	made, err := Load(path)
	require.NoError(t, err)
	info, err := os.Stat(path)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())
	sealed := made.Seal("key 7", []byte("plain"))
	assert.NotContains(t, string(sealed), "plain")

	again, err := Load(path)
	require.NoError(t, err)
	opened, err := again.Open("key 7", sealed)
	require.NoError(t, err)
	assert.Equal(t, "plain", string(opened))

	_, err = again.Open("key 8", sealed)
	require.ErrorIs(t, err, ErrOther)
	for i := range sealed {
		sealed[i] ^= 1
		_, err = again.Open("key 7", sealed)
		require.ErrorIs(t, err, ErrOther, "byte %d is changed", i)
		sealed[i] ^= 1
	}
	other, err := Load(filepath.Join(t.TempDir(), "secret"))
	require.NoError(t, err)
	_, err = other.Open("key 7", sealed)
	require.ErrorIs(t, err, ErrOther)

	require.NoError(t, os.WriteFile(path, []byte("short"), 0o600))
	_, err = Load(path)
	assert.ErrorContains(t, err, "does not hold a secret")
	_, err = Load(filepath.Join(path, "below a file"))
	assert.Error(t, err)
}
