package gate

import (
	"bytes"
	"compress/gzip"
	"strings"
	"testing"

	"github.com/andybalholm/brotli"
	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widelark/core/policy"
)

const (
	program = "MZ\x90\x00\x03\x00\x00\x00\x04\x00\x00\x00\xff\xff\x00\x00"
	text    = "The tide comes in, and the tide goes out.\nAnd again, and again."
)

// An answer is of the kinds that its declared type, its name and its first bytes say, also where they disagree.
func TestAnswerIs(t *testing.T) {
	for _, row := range []struct {
		media, disposition, head string
		kinds                    []string
		name                     string
	}{
		{"text/html; charset=utf-8", "", "<!doctype html><title>Tide</title>", nil, ""},
		{"text/plain", "", text, nil, ""},
		{"text/plain", "", program, []string{"programs"}, ""},
		{"application/x-msdownload", "", text, []string{"programs"}, ""},
		{"image/png", "", program, []string{"pictures", "programs"}, ""},
		{"application/pdf", "", "%PDF-1.7\n", []string{"documents"}, ""},
		{"application/octet-stream", `attachment; filename="tide.iso"`, text, nil, "tide.iso"},
		{"application/octet-stream", "attachment; filename*=UTF-8''t%C3%AFde.exe", "", nil, "tïde.exe"},
		{"application/vnd.ms-excel.sheet.macroEnabled.12", "", "", []string{"macros"}, ""},
		{"application/vnd.openxmlformats-officedocument.spreadsheetml.sheet", "", "", []string{"documents"}, ""},
		{"VIDEO/MP4", "", "", []string{"film"}, ""},
		{"application/json", "", `{"a":1}`, nil, ""},
		{"", "", "7z\xbc\xaf\x27\x1c\x00\x04", []string{"archives"}, ""},
		{"nonsense;;;", "nonsense;;;", "", nil, ""},
	} {
		a := (&Said{row.media, row.disposition, "", []byte(row.head)}).read()
		assert.ElementsMatch(t, row.kinds, a.Kinds, "%s %q", row.media, row.head)
		assert.Equal(t, row.name, a.Name)
	}
	for kind := range kinds {
		found := false
		for _, k := range policy.FileKinds {
			found = found || k.Key == kind
		}
		assert.True(t, found, kind)
	}
	assert.Len(t, kinds, len(policy.FileKinds))
}

// The first bytes are read through the encodings of the answer, also where they break off; what cannot be read is taken as it is declared.
func TestReadEncodedAnswer(t *testing.T) {
	body := []byte(program + strings.Repeat("tide ", 5000))
	pack := map[string]func() []byte{
		"gzip": func() []byte {
			var b bytes.Buffer
			w := gzip.NewWriter(&b)
			_, err := w.Write(body)
			require.NoError(t, err)
			require.NoError(t, w.Close())
			return b.Bytes()
		},
		"br": func() []byte {
			var b bytes.Buffer
			w := brotli.NewWriter(&b)
			_, err := w.Write(body)
			require.NoError(t, err)
			require.NoError(t, w.Close())
			return b.Bytes()
		},
		"zstd": func() []byte {
			w, err := zstd.NewWriter(nil)
			require.NoError(t, err)
			return w.EncodeAll(body, nil)
		},
	}
	for encoding, packed := range pack {
		head := packed()
		assert.Equal(t, []string{"programs"}, (&Said{"text/plain", "", encoding, head}).read().Kinds, encoding)
		if encoding == "gzip" {
			assert.Equal(t, []string{"programs"}, (&Said{"text/plain", "", encoding, head[:len(head)*2/3]}).read().Kinds, "it breaks off")
		}
		assert.Empty(t, (&Said{"text/plain", "", encoding, []byte("not encoded so")}).read().Kinds)
		assert.Empty(t, (&Said{"text/plain", "", "unknown", head}).read().Kinds)
	}
}

// Whatever comes, it is read without a panic, and in little memory.
func FuzzAnswer(f *testing.F) {
	f.Add("text/html", "attachment; filename=a.exe", "gzip, br", []byte(program))
	f.Add("application/zip", "", "zstd", []byte("\x28\xb5\x2f\xfd\x04\x00"))
	f.Fuzz(func(_ *testing.T, media, disposition, encoding string, head []byte) {
		said := Said{media, disposition, encoding, head}
		said.read()
		_ = said.text()
	})
}

// The text of a page is read without its markup, in whichever encoding it is written and packed, also where it breaks off.
func TestAnswerText(t *testing.T) {
	for _, row := range []struct{ media, body, want string }{
		{"text/plain; charset=utf-8", "Late odds at the café", "Late odds at the café"},
		{"text/plain; charset=iso-8859-1", "the caf\xe9", "the café"},
		{"text/html", "<!doctype html><title>Tide</title><style>p{}</style><p>Late <b>od</b>ds<script>x='<p>betting'</script> &amp; more", "Tide  Late odds  & more"},
		{"text/html", "<meta charset=iso-8859-1><p>caf\xe9", "café"},
		{"text/html; charset=windows-1251", "<p>\xcf\xf0\xe8\xeb\xe8\xe2", "Прилив"},
		{"text/html", "<p>" + strings.Repeat("a", 2000) + " café</p", strings.Repeat("a", 2000) + " café"},
		{"text/html", "<p>été caf\xc3", "été caf"},
		{"text/html", "", ""},
	} {
		said := Said{ContentType: row.media, Head: []byte(row.body)}
		assert.Equal(t, row.want, strings.TrimSuffix(strings.ToValidUTF8(strings.TrimSpace(said.text()), ""), "\ufffd"), "%s %q", row.media, row.body)
	}
	for media, text := range map[string]bool{"text/html; charset=utf-8": true, "application/xhtml+xml": true, "image/png": false, "": false, "text/css": false} {
		assert.Equal(t, text, isText(media), media)
	}
}
