package parcel

import (
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"

	"github.com/klauspost/compress/zstd"
)

// Digest is the SHA-256 (FIPS 180-4) of a compressed part, by which the part is known.
type Digest [sha256.Size]byte

// String returns the digest in hexadecimal.
func (d Digest) String() string { return hex.EncodeToString(d[:]) }

// MarshalText implements [encoding.TextMarshaler].
func (d Digest) MarshalText() ([]byte, error) { return []byte(d.String()), nil }

// UnmarshalText implements [encoding.TextUnmarshaler].
func (d *Digest) UnmarshalText(text []byte) error {
	if len(text) != 2*sha256.Size {
		return fmt.Errorf("a digest is %d characters of hexadecimal, not %d", 2*sha256.Size, len(text))
	}
	_, err := hex.Decode(d[:], text)
	return err
}

// ErrDamaged is the error of a part that is not what its digest says.
var ErrDamaged = errors.New("the part is damaged")

// mostPart bounds the bytes of a part, so that nobody can fill the memory with a small one that unpacks to a large one.
const mostPart = 256 << 20

var (
	packer, _   = zstd.NewWriter(nil, zstd.WithEncoderLevel(zstd.SpeedDefault), zstd.WithEncoderConcurrency(1)) // the options are right
	unpacker, _ = zstd.NewReader(nil, zstd.WithDecoderMaxMemory(mostPart), zstd.WithDecoderConcurrency(0))
)

// Compress compresses a part (Zstandard, RFC 8878) and returns it with its digest: the same part always has the same. It is safe for concurrent use.
func Compress(part []byte) (Digest, []byte) {
	packed := packer.EncodeAll(part, nil)
	return sha256.Sum256(packed), packed
}

// Check returns [ErrDamaged] where a compressed part is not that of a digest.
func Check(d Digest, packed []byte) error {
	if sha256.Sum256(packed) != d {
		return fmt.Errorf("%s: %w", d, ErrDamaged)
	}
	return nil
}

// Decompress returns the bytes of a compressed part. The error is [ErrDamaged] where it is not that of the digest. It is safe for concurrent use.
func Decompress(d Digest, packed []byte) ([]byte, error) {
	if err := Check(d, packed); err != nil {
		return nil, err
	}
	part, err := unpacker.DecodeAll(packed, nil)
	if err != nil {
		return nil, fmt.Errorf("%s: %w: %w", d, ErrDamaged, err)
	}
	return part, nil
}
