package journal

import (
	"bufio"
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"

	"github.com/klauspost/compress/zstd"
)

// mostLine bounds the bytes of one record as a line.
const mostLine = 1 << 20

// PackLines returns records as JSON, a line each, compressed (Zstandard, RFC 8878), in which form they wait on a disk and travel.
func PackLines(records []Record) ([]byte, error) {
	var packed bytes.Buffer
	w, err := zstd.NewWriter(&packed, zstd.WithEncoderConcurrency(1), zstd.WithEncoderLevel(zstd.SpeedFastest))
	if err != nil {
		return nil, err
	}
	lines := json.NewEncoder(w)
	for i := range records {
		if err := lines.Encode(&records[i]); err != nil {
			return nil, errors.Join(err, w.Close())
		}
	}
	err = w.Close()
	return packed.Bytes(), err
}

// ReadLines reads what [PackLines] wrote. A line that cannot be read is left out and counted: the others are not lost with it.
func ReadLines(packed io.Reader) (records []Record, unread int, err error) {
	r, err := zstd.NewReader(packed, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxMemory(64<<20))
	if err != nil {
		return nil, 0, err
	}
	defer r.Close()
	lines := bufio.NewScanner(r)
	lines.Buffer(nil, mostLine)
	for lines.Scan() {
		var one Record
		if json.Unmarshal(lines.Bytes(), &one) != nil {
			unread++
			continue
		}
		records = append(records, one)
	}
	if err := lines.Err(); err != nil {
		return records, unread, fmt.Errorf("the records break off after %d: %w", len(records), err)
	}
	return records, unread, nil
}
