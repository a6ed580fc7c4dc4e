package gate

import (
	"bytes"
	"compress/flate"
	"compress/gzip"
	"io"
	"mime"
	"slices"
	"strings"
	"sync/atomic"
	"unicode/utf8"

	"github.com/andybalholm/brotli"
	"github.com/gabriel-vasile/mimetype"
	"github.com/klauspost/compress/zstd"
	"golang.org/x/net/html"
	"golang.org/x/net/html/charset"

	"widelark/core/policy"
)

// Answer takes what is known of an answer as soon as there is one; a request that is under way is decided again with it. It is safe for concurrent use.
type Answer struct{ known atomic.Pointer[policy.Answer] }

// Asks returns what takes the answer of a request; nil where what a site answers changes no verdict.
func (g *Gate) Asks(d Decision) *Answer {
	if d.Edition == nil || !d.Edition.Snapshot.AsksAnswers() {
		return nil
	}
	return &Answer{}
}

// Said is the beginning of an answer, as a site sends it.
type Said struct {
	ContentType, Disposition string
	Encoding                 string // of the body, as Content-Encoding says it (RFC 9110, section 8.4)
	Head                     []byte // of the body
}

// How many bytes of a body are looked at: of most files, the first few say what they are; of the text of a page, so many are read where scorecards ask for it.
const (
	mostHead = 3072
	mostText = 256 << 10
)

// Enough returns how many bytes of the body of an answer say what the request's rules ask.
func (g *Gate) Enough(d Decision, contentType string) int {
	if d.Edition != nil && d.Edition.Snapshot.AsksText() && isText(contentType) {
		return mostText
	}
	return 512
}

// Answered decides a request again, whose answer has begun. The record is the same.
func (g *Gate) Answered(d Decision, said Said) Decision {
	if d.Request.Answer == nil {
		return d
	}
	answer := said.read()
	if d.Edition.Snapshot.AsksText() && isText(said.ContentType) {
		answer.Points = d.Edition.Snapshot.ScoreText(said.text())
	}
	d.Request.Answer.known.Store(&answer)
	next := g.decide(d.Request)
	next.ID = d.ID
	if !next.Verdict.Passes() {
		g.refused.Add(1)
	}
	return next
}

// kinds are the media types of the kinds of files, by their beginnings. Each kind has its key in [policy.FileKinds].
var kinds = map[string][]string{
	"archives": {
		"application/zip", "application/x-zip", "application/x-7z", "application/vnd.rar", "application/x-rar", "application/x-tar", "application/gzip", "application/x-gzip",
		"application/x-bzip", "application/bzip2", "application/x-xz", "application/zstd", "application/vnd.ms-cab",
	},
	"programs": {
		"application/vnd.microsoft.portable-executable", "application/x-msdownload", "application/x-dosexec", "application/x-ms-installer", "application/x-msi", "application/java-archive",
		"application/vnd.android.package-archive", "application/x-elf", "application/x-executable", "application/x-sharedlib", "application/x-object", "application/x-mach-binary",
		"application/vnd.debian.binary-package", "application/x-rpm", "application/x-sh", "text/x-shellscript", "application/x-bat",
	},
	"documents": {
		"application/pdf", "application/msword", "application/vnd.ms-excel", "application/vnd.ms-powerpoint", "application/vnd.openxmlformats-officedocument",
		"application/vnd.oasis.opendocument", "application/rtf", "text/rtf", "text/csv", "application/epub",
	},
	"macros":   {"application/vnd.ms-word.document.macroenabled", "application/vnd.ms-word.template.macroenabled", "application/vnd.ms-excel.sheet.macroenabled", "application/vnd.ms-excel.sheet.binary.macroenabled", "application/vnd.ms-powerpoint.presentation.macroenabled"},
	"pictures": {"image/"},
	"sound":    {"audio/"},
	"film":     {"video/", "application/vnd.apple.mpegurl", "application/x-mpegurl"},
	"disks":    {"application/x-iso9660-image", "application/x-raw-disk-image", "application/x-virtualbox", "application/x-qemu-disk"},
}

// kindsOf appends the kinds that a media type is of.
func kindsOf(found []string, media string) []string {
	media = strings.ToLower(media)
	for _, kind := range policy.FileKinds {
		for _, begin := range kinds[kind.Key] {
			if strings.HasPrefix(media, begin) && !slices.Contains(found, kind.Key) {
				found = append(found, kind.Key)
			}
		}
	}
	if i := slices.Index(found, "documents"); i >= 0 && slices.Contains(found, "macros") && strings.Contains(media, "macroenabled") {
		found = slices.Delete(found, i, i+1)
	}
	return found
}

// read says what an answer is, by its declared type, by the name that it gives to the file (RFC 6266), and by its first bytes. Where these disagree, it is all of
// them.
func (s *Said) read() policy.Answer {
	media, _, _ := mime.ParseMediaType(s.ContentType)
	a := policy.Answer{Kinds: kindsOf(nil, media)}
	if _, parameters, err := mime.ParseMediaType(s.Disposition); err == nil {
		a.Name = parameters["filename"]
	}
	if head := decoded(s.Encoding, s.Head[:min(len(s.Head), mostHead)], mostHead); len(head) > 0 {
		// What it is in particular counts: a document that is packed is no archive. Any text with commas looks like a table.
		for found := mimetype.Detect(head); found != nil; found = found.Parent() {
			of, _, _ := strings.Cut(found.String(), ";")
			before := len(a.Kinds)
			if of != "text/csv" {
				a.Kinds = kindsOf(a.Kinds, of)
			}
			if len(a.Kinds) > before {
				break
			}
		}
	}
	return a
}

// isText reports whether an answer of a declared type is a page with text to be read.
func isText(contentType string) bool {
	media, _, _ := mime.ParseMediaType(contentType)
	return media == "text/html" || media == "application/xhtml+xml" || media == "text/plain"
}

// text returns what people read of a page: its text without markup, in whichever encoding it is written.
func (s *Said) text() string {
	body := decoded(s.Encoding, s.Head, 4*mostText)
	if !utf8.Valid(body) && !cutShort(body) {
		encoding, _, _ := charset.DetermineEncoding(body[:min(len(body), 1024)], s.ContentType)
		if read, err := encoding.NewDecoder().Bytes(body); err == nil {
			body = read
		}
	}
	if media, _, _ := mime.ParseMediaType(s.ContentType); media == "text/plain" {
		return string(body)
	}
	var text strings.Builder
	page := html.NewTokenizer(bytes.NewReader(body))
	for unread := ""; ; {
		switch page.Next() {
		case html.ErrorToken: // the end, or where the page was cut
			return text.String()
		case html.StartTagToken:
			if name, _ := page.TagName(); unread == "" && (string(name) == "script" || string(name) == "style") {
				unread = string(name)
			}
		case html.EndTagToken:
			name, _ := page.TagName()
			if string(name) == unread {
				unread = ""
			}
			if !inline[string(name)] {
				text.WriteByte(' ')
			}
		case html.TextToken:
			if unread == "" {
				text.Write(page.Text())
			}
		}
	}
}

// cutShort reports whether a text is UTF-8 that was cut within its last character: all before is valid, and some of it is more than ASCII.
func cutShort(text []byte) bool {
	for n := 1; n < min(utf8.UTFMax, len(text)+1); n++ {
		if whole := text[:len(text)-n]; utf8.RuneStart(text[len(text)-n]) {
			return !utf8.FullRune(text[len(text)-n:]) && utf8.Valid(whole) && utf8.RuneCount(whole) < len(whole)
		}
	}
	return false
}

// inline are elements within words.
var inline = map[string]bool{"b": true, "i": true, "em": true, "strong": true, "span": true, "a": true, "u": true, "mark": true, "sub": true, "sup": true, "small": true}

// decoded returns the beginning of a body without its encodings, as far as it can be read, and most bytes at most.
func decoded(encodings string, head []byte, most int) []byte {
	for _, encoding := range slices.Backward(strings.Split(encodings, ",")) {
		var r io.Reader
		var err error
		switch in := bytes.NewReader(head); strings.ToLower(strings.TrimSpace(encoding)) {
		case "", "identity":
			continue
		case "gzip", "x-gzip":
			r, err = gzip.NewReader(in)
		case "deflate":
			r = flate.NewReader(bytes.NewReader(head[min(len(head), 2):])) // behind the head of zlib (RFC 1950)
		case "br":
			r = brotli.NewReader(in)
		case "zstd":
			var z *zstd.Decoder
			if z, err = zstd.NewReader(in, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxWindow(8<<20)); err == nil {
				defer z.Close()
				r = z
			}
		default:
			return nil
		}
		if err != nil {
			return nil
		}
		head, _ = io.ReadAll(io.LimitReader(r, int64(most))) // what was read before it breaks off is enough
	}
	return head
}
