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

	"github.com/andybalholm/brotli"
	"github.com/gabriel-vasile/mimetype"
	"github.com/klauspost/compress/zstd"

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

// Answered decides a request again, whose answer has begun. The record is the same.
func (g *Gate) Answered(d Decision, answer policy.Answer) Decision {
	if d.Request.Answer == nil {
		return d
	}
	d.Request.Answer.known.Store(&answer)
	next := g.decide(d.Request)
	next.ID = d.ID
	if !next.Verdict.Passes() {
		g.refused.Add(1)
	}
	return next
}

// HeadOf is how many bytes of an answer say what it is.
const HeadOf = 3072

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

// ReadAnswer says what an answer is, by its declared type, by the name that it gives to the file (RFC 6266), and by its first bytes, encoded as contentEncoding says
// (RFC 9110, section 8.4). Where these disagree, it is all of them.
func ReadAnswer(contentType, disposition, contentEncoding string, head []byte) policy.Answer {
	media, _, _ := mime.ParseMediaType(contentType)
	a := policy.Answer{Kinds: kindsOf(nil, media)}
	if _, parameters, err := mime.ParseMediaType(disposition); err == nil {
		a.Name = parameters["filename"]
	}
	if head = decoded(contentEncoding, head); len(head) > 0 {
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

// decoded returns the beginning of a body without its encodings, as far as it can be read.
func decoded(encodings string, head []byte) []byte {
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
		out := make([]byte, HeadOf)
		n, _ := io.ReadFull(r, out) // what was read before it breaks off is enough
		head = out[:n]
	}
	return head
}
