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

// Reader reads a container. Its content is known to be the maker's. It must not be used by two goroutines at once.
type Reader struct {
	Content json.RawMessage // what the maker vouches for
	Signer  string          // the public key; see [KeyText]

	noun     string
	declared map[string]File
	files    *tar.Reader
	packed   *zstd.Decoder
}

// Open reads a container as far as its manifest. Noun is what people call such a container. It is refused with an [*Error] where it is none,
// damaged, or signed by none of the trusted keys (see [KeyText]). The caller closes the reader.
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

// begin reads the manifest of a container, and believes nothing that it says.
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

// Close gives the memory back. It does not close what the container is read from.
func (c *Reader) Close() { c.packed.Close() }

// damaged says that a container cannot be read to its end. Where that is the source's fault, the error has the source's in it.
func (c *Reader) damaged(err error) error {
	return &Error{Msg: fmt.Sprintf("no %s, or damaged, or not whole (%s)", c.noun, err), cause: err}
}

// header moves to the part that must come now.
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

// next reads the file that must come now, if it is no longer than so many bytes.
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

// Whole returns the part that must come now, if it has at most so many bytes. What comes back was signed.
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

// Stream reads a part as it comes. What it gave is known to be signed once [Stream.End] returns nil.
type Stream struct {
	c        *Reader
	name     string
	declared File
	from     io.Reader
	sum      hash.Hash
	n        int64
}

// Stream returns the part that must come now.
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

// Failed turns an error of reading the part into an [*Error].
func (s *Stream) Failed(err error) error { return s.c.damaged(err) }

// End reports whether what was read is the part as it was signed. Precondition: it was read to its end.
func (s *Stream) End() error {
	if s.n != s.declared.Bytes || hex.EncodeToString(s.sum.Sum(nil)) != s.declared.SHA256 {
		return Wrong(s.name, "not as it was signed")
	}
	return nil
}
