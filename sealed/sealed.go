// Package sealed writes and reads signed containers: several parts in one file, after a manifest that describes and signs them. A container is
// checked while it is read, so a reader needs no room for all of it, and uses nothing that was not signed.
//
// From: parts, and a key; or the bytes of a container, and the keys that are trusted.
// To: the bytes of a container; or its parts, checked against the signature.
//
// A container is a tar archive (POSIX.1-2001) compressed with zstd (RFC 8878). Its first file is manifest.json: the signed content, with the
// length and checksum (SHA-256) of every part, and a signature (Ed25519, RFC 8032) over the bytes of that content. The parts follow, in the order
// that the maker chose.
package sealed

import (
	"encoding/json"
	"fmt"
)

// ManifestName is the name of the first file.
const ManifestName = "manifest.json"

// maxManifest is the longest manifest, in bytes. It bounds what is read before the signature has been checked.
const maxManifest = 1 << 20

// File describes a part in the manifest.
type File struct {
	Bytes  int64  `json:"bytes"`
	SHA256 string `json:"sha256"` // in hexadecimal digits
}

// manifest is manifest.json. The signature covers the bytes of content exactly as the file holds them.
type manifest struct {
	Content   json.RawMessage `json:"content"`
	Signature *signature      `json:"signature,omitempty"`
}

type signature struct {
	Key     string `json:"key"`     // the public key; see [KeyText]
	Ed25519 string `json:"ed25519"` // RFC 8032, base64
}

// Error describes a fault of a container.
type Error struct {
	Part string // the part, with a line where there is one, as "sites.csv, line 7"; "" for the container itself
	Msg  string // one clause, lower case, no final dot

	cause error // the error of the underlying reader; nil if the content itself is wrong
}

// Error returns the message, with the part before it.
func (e *Error) Error() string {
	if e.Part == "" {
		return e.Msg
	}
	return e.Part + ": " + e.Msg
}

// Unwrap returns the error of the underlying reader, or nil.
func (e *Error) Unwrap() error { return e.cause }

// Wrong returns an [*Error] about a part.
func Wrong(part, format string, args ...any) error {
	return &Error{Part: part, Msg: fmt.Sprintf(format, args...)}
}
