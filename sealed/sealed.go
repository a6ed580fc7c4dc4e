// Package sealed writes and reads signed containers: several parts in one file, and a manifest before them that says what they are and who
// vouches for them. A container is checked while it is read: nothing of it has to be held, and nothing is believed that was not signed.
//
// From: parts, and a key; or the bytes of a container, and the keys that are trusted.
// To: the bytes of a container; or its parts, known to be those that were signed.
//
// A container is a tar archive (POSIX.1-2001) compressed with zstd (RFC 8878). Its first file is manifest.json: the content that is vouched for, with the
// length and checksum (SHA-256) of every part, and a signature (Ed25519, RFC 8032) over the bytes of that content. The parts follow in an
// order of the maker's.
package sealed

import (
	"encoding/json"
	"fmt"
)

// ManifestName is the name of the first file.
const ManifestName = "manifest.json"

// maxManifest bounds what is read before the signature is known to be good, in bytes.
const maxManifest = 1 << 20

// File is what is known of a part before it is read.
type File struct {
	Bytes  int64  `json:"bytes"`
	SHA256 string `json:"sha256"` // in hexadecimal digits
}

// manifest is manifest.json. The signature is over the bytes of content as they stand there.
type manifest struct {
	Content   json.RawMessage `json:"content"`
	Signature *signature      `json:"signature,omitempty"`
}

type signature struct {
	Key     string `json:"key"`     // the public key; see [KeyText]
	Ed25519 string `json:"ed25519"` // RFC 8032, base64
}

// Error says what is wrong with a container.
type Error struct {
	Part string // the part, with a line where there is one, as "sites.csv, line 7"; "" for the container itself
	Msg  string // one clause, lower case, no final dot

	cause error // of reading; nil where what was read is wrong
}

// Error returns the message with the part before it.
func (e *Error) Error() string {
	if e.Part == "" {
		return e.Msg
	}
	return e.Part + ": " + e.Msg
}

// Unwrap returns what reading ended with, for callers that know the source's own errors.
func (e *Error) Unwrap() error { return e.cause }

// Wrong returns an [*Error] about a part.
func Wrong(part, format string, args ...any) error {
	return &Error{Part: part, Msg: fmt.Sprintf(format, args...)}
}
