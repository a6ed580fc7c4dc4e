package sealed_test

import (
	"bytes"
	"crypto/ed25519"
	"encoding/json"
	"fmt"
	"io"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"widelark/sealed"
)

var (
	key     = ed25519.NewKeyFromSeed(bytes.Repeat([]byte{7}, 32))
	trusted = []string{"somebody else", sealed.KeyText(key.Public().(ed25519.PublicKey))}
)

// container writes parts, given as names and texts.
func container(t require.TestingT, parts ...string) []byte {
	var written []sealed.Part
	for i := 0; i < len(parts); i += 2 {
		written = append(written, sealed.Part{Name: parts[i], Write: func(w io.Writer) error {
			_, err := io.WriteString(w, parts[i+1])
			return err
		}})
	}
	var b bytes.Buffer
	content := func(files map[string]sealed.File) ([]byte, error) {
		return json.Marshal(map[string]any{"files": files, "what": "a test"})
	}
	require.NoError(t, sealed.Write(&b, time.Date(2026, 11, 29, 0, 0, 0, 0, time.UTC), key, content, written...))
	return b.Bytes()
}

// read reads a container of two parts: the first whole, the second as it comes.
func read(file []byte, trusted []string) (whole, streamed string, err error) {
	c, err := sealed.Open(bytes.NewReader(file), "box", trusted)
	if err != nil {
		return "", "", err
	}
	defer c.Close()
	first, err := c.Whole("a", 1000)
	if err != nil {
		return "", "", err
	}
	s, err := c.Stream("b")
	if err != nil {
		return "", "", err
	}
	second, err := io.ReadAll(s)
	if err != nil {
		return "", "", s.Failed(err)
	}
	return string(first), string(second), s.End()
}

// What is written is read; whatever is changed, added or taken away is refused, with an error that says so.
func TestChangesAreFound(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		a, b := rapid.StringN(0, 100, -1).Draw(t, "a"), rapid.StringN(0, 3000, -1).Draw(t, "b")
		file := container(t, "a", a, "b", b)
		first, second, err := read(file, trusted)
		require.NoError(t, err)
		require.Equal(t, []string{a, b}, []string{first, second})

		broken := bytes.Clone(file)
		at := rapid.IntRange(0, len(file)-1).Draw(t, "at")
		if rapid.Bool().Draw(t, "cut") {
			broken = broken[:at]
		} else {
			broken[at] ^= byte(rapid.IntRange(1, 255).Draw(t, "flip"))
		}
		// A byte that nothing is read from may be another: what comes out is still what was signed, or an error.
		if first, second, err = read(broken, trusted); err != nil {
			var wrong *sealed.Error
			require.ErrorAs(t, err, &wrong)
			return
		}
		require.Equal(t, []string{a, b}, []string{first, second})
	})
}

func TestRefusals(t *testing.T) {
	file := container(t, "a", "first", "b", "second")
	signer, err := sealed.SignerOf(bytes.NewReader(file), "box")
	require.NoError(t, err)
	assert.Equal(t, trusted[1], signer)
	_, _, err = read(file, trusted[:1])
	require.ErrorContains(t, err, "which nobody here trusts")
	_, _, err = read(container(t, "b", "second", "a", "first"), trusted)
	require.EqualError(t, err, `a is wanted where "b" stands`)
	_, _, err = read(container(t, "a", strings.Repeat("x", 1001), "b", ""), trusted)
	require.EqualError(t, err, "a: longer than it may be (1000 bytes)")
	_, _, err = read([]byte("no container"), trusted)
	require.ErrorContains(t, err, "no box, or damaged, or not whole")
	_, err = sealed.SignerOf(strings.NewReader(""), "box")
	require.ErrorContains(t, err, "no box")
	// The source's own error stays known.
	gone := fmt.Errorf("the line went dead")
	_, err = sealed.Open(io.MultiReader(bytes.NewReader(file[:20]), failing{gone}), "box", trusted)
	require.ErrorIs(t, err, gone)
}

type failing struct{ err error }

func (f failing) Read([]byte) (int, error) { return 0, f.err }

func TestKeys(t *testing.T) {
	text, err := sealed.NewKey()
	require.NoError(t, err)
	made, err := sealed.ReadKey(text)
	require.NoError(t, err)
	back, err := sealed.ParseKey(sealed.KeyText(made.Public().(ed25519.PublicKey)))
	require.NoError(t, err)
	assert.True(t, back.Equal(made.Public()))
	for _, bad := range []string{"", "x", sealed.KeyText(back)[1:]} {
		_, err := sealed.ParseKey(bad)
		require.ErrorContains(t, err, "44 characters of base64")
		_, err = sealed.ReadKey([]byte(bad))
		require.ErrorContains(t, err, "no PEM file")
	}
}
