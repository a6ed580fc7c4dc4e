package sealed

import (
	"archive/tar"
	"crypto/ed25519"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"errors"
	"io"
	"time"

	"github.com/klauspost/compress/zstd"
)

// Part is a part to be written. Write is called twice, first for the checksum and then for the container, and must write the same bytes both
// times.
type Part struct {
	Name  string
	Write func(w io.Writer) error
}

// Write writes a container with parts, signed with key. content returns the content to sign, as JSON that holds the files under "files".
func Write(w io.Writer, made time.Time, key ed25519.PrivateKey, content func(files map[string]File) ([]byte, error), parts ...Part) error {
	declared := map[string]File{}
	for _, p := range parts {
		sum := sha256.New()
		size := &sized{w: sum}
		if err := p.Write(size); err != nil {
			return err
		}
		declared[p.Name] = File{size.n, hex.EncodeToString(sum.Sum(nil))}
	}
	signed, err := content(declared)
	if err != nil {
		return err
	}
	head, err := json.Marshal(manifest{Content: signed, Signature: &signature{
		KeyText(key.Public().(ed25519.PublicKey)), base64.StdEncoding.EncodeToString(ed25519.Sign(key, signed)),
	}})
	if err != nil {
		return err
	}
	packed, err := zstd.NewWriter(w, zstd.WithEncoderConcurrency(1), zstd.WithWindowSize(8<<20))
	if err != nil {
		return err
	}
	files := tar.NewWriter(packed)
	file := func(name string, size int64) error {
		return files.WriteHeader(&tar.Header{Name: name, Mode: 0o644, Size: size, ModTime: made.UTC(), Format: tar.FormatPAX})
	}
	if err := file(ManifestName, int64(len(head))); err != nil {
		return err
	}
	if _, err := files.Write(head); err != nil {
		return err
	}
	for _, p := range parts {
		if err := errors.Join(file(p.Name, declared[p.Name].Bytes), p.Write(files)); err != nil {
			return err
		}
	}
	return errors.Join(files.Close(), packed.Close())
}

// sized counts the bytes written.
type sized struct {
	w io.Writer
	n int64
}

func (s *sized) Write(p []byte) (int, error) {
	s.n += int64(len(p))
	return s.w.Write(p)
}
