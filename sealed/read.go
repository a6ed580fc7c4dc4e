package sealed

import (
	"archive/tar"
	"crypto/ed25519"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"hash"
	"io"
	"slices"

	"github.com/klauspost/compress/zstd"
)

// Reader reads a container, whose content has been checked against its signature. It is not safe for concurrent use.
type Reader struct {
	Content json.RawMessage // the signed content
	Signer  string          // the public key; see [KeyText]

	noun     string
	declared map[string]File
	files    *tar.Reader
	packed   *zstd.Decoder
}

// Open reads a container as far as its manifest. noun is the word for such a container in messages. It returns an [*Error] if the file is no
// container, is damaged, or is signed by none of the trusted keys (see [KeyText]). The caller closes the reader.
func Open(r io.Reader, noun string, trusted []string) (_ *Reader, err error) {
	c, m, err := begin(r, noun)
	if err != nil {
		return nil, err
	}
	defer func() {
		if err != nil {
			c.Close()
		}
	}()
	key, err := ParseKey(m.Signature.Key)
	if err != nil {
		return nil, Wrong(ManifestName, "the signature's key: %s", err)
	}
	sign, err := base64.StdEncoding.DecodeString(m.Signature.Ed25519)
	switch {
	case err != nil || !ed25519.Verify(key, m.Content, sign):
		return nil, Wrong(ManifestName, "the signature does not fit the content: it was changed after it was signed")
	case !slices.Contains(trusted, m.Signature.Key):
		return nil, Wrong(ManifestName, "signed by the key %s, which nobody here trusts", m.Signature.Key)
	}
	var content struct {
		Files map[string]File `json:"files"`
	}
	if err := json.Unmarshal(m.Content, &content); err != nil {
		return nil, Wrong(ManifestName, "no manifest: %s", err)
	}
	c.Content, c.Signer, c.declared = m.Content, m.Signature.Key, content.Files
	return c, nil
}

// SignerOf returns the public key that a container names as its maker's, whether or not anybody trusts it.
func SignerOf(r io.Reader, noun string) (string, error) {
	c, m, err := begin(r, noun)
	if err != nil {
		return "", err
	}
	c.Close()
	return m.Signature.Key, nil
}

// begin reads the manifest of a container without checking the signature.
func begin(r io.Reader, noun string) (_ *Reader, m manifest, err error) {
	c := &Reader{noun: noun}
	c.packed, err = zstd.NewReader(r, zstd.WithDecoderMaxMemory(64<<20), zstd.WithDecoderConcurrency(1))
	if err != nil {
		return nil, m, c.damaged(err)
	}
	c.files = tar.NewReader(c.packed)
	defer func() {
		if err != nil {
			c.Close()
		}
	}()
	text, err := c.next(ManifestName, maxManifest)
	if err != nil {
		return nil, m, err
	}
	if err := json.Unmarshal(text, &m); err != nil {
		return nil, m, Wrong(ManifestName, "no manifest: %s", err)
	}
	if m.Signature == nil {
		return nil, m, Wrong(ManifestName, "the %s is not signed", noun)
	}
	return c, m, nil
}

// Close frees the decoder's memory. It does not close the underlying reader.
func (c *Reader) Close() { c.packed.Close() }

// damaged returns the error for a container that cannot be read to its end. It wraps the error of the underlying reader if there is one.
func (c *Reader) damaged(err error) error {
	return &Error{Msg: fmt.Sprintf("no %s, or damaged, or not whole (%s)", c.noun, err), cause: err}
}

// header moves to the next file, which must have the given name.
func (c *Reader) header(name string) error {
	head, err := c.files.Next()
	switch {
	case err != nil:
		return c.damaged(err)
	case head.Name != name || head.Typeflag != tar.TypeReg:
		return Wrong("", "%s is wanted where %q stands", name, head.Name)
	}
	return nil
}

// next reads the next file, which must have the given name and at most the given length in bytes.
func (c *Reader) next(name string, most int64) ([]byte, error) {
	if err := c.header(name); err != nil {
		return nil, err
	}
	text, err := io.ReadAll(io.LimitReader(c.files, most+1))
	switch {
	case err != nil:
		return nil, c.damaged(err)
	case int64(len(text)) > most:
		return nil, Wrong(name, "longer than it may be (%d bytes)", most)
	}
	return text, nil
}

// Whole returns the next part, which must have the given name and at most the given length in bytes. The bytes it returns have been checked.
func (c *Reader) Whole(name string, most int64) ([]byte, error) {
	declared := c.declared[name]
	text, err := c.next(name, min(most, declared.Bytes))
	if err != nil {
		return nil, err
	}
	if sum := sha256.Sum256(text); hex.EncodeToString(sum[:]) != declared.SHA256 {
		return nil, Wrong(name, "not as it was signed")
	}
	return text, nil
}

// Stream reads a part piece by piece. Only when [Stream.End] has returned nil are the bytes it gave known to be the signed ones.
type Stream struct {
	c        *Reader
	name     string
	declared File
	from     io.Reader
	sum      hash.Hash
	n        int64
}

// Stream returns the next part, which must have the given name.
func (c *Reader) Stream(name string) (*Stream, error) {
	if err := c.header(name); err != nil {
		return nil, err
	}
	s := &Stream{c: c, name: name, declared: c.declared[name], sum: sha256.New()}
	s.from = io.TeeReader(io.LimitReader(c.files, s.declared.Bytes+1), s.sum)
	return s, nil
}

// Read implements [io.Reader].
func (s *Stream) Read(p []byte) (int, error) {
	n, err := s.from.Read(p)
	s.n += int64(n)
	return n, err
}

// Failed turns an error of reading the part into an [*Error] about the part.
func (s *Stream) Failed(err error) error { return s.c.damaged(err) }

// End returns nil if the bytes read are the part as it was signed. Precondition: the part was read to its end.
func (s *Stream) End() error {
	if s.n != s.declared.Bytes || hex.EncodeToString(s.sum.Sum(nil)) != s.declared.SHA256 {
		return Wrong(s.name, "not as it was signed")
	}
	return nil
}
