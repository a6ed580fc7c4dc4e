package listfile

import (
	"bufio"
	"compress/gzip"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"io"
	"strconv"

	"github.com/klauspost/compress/zstd"

	"widelark/core/pattern"
)

// Packing is how a file is packed.
type Packing string

// The packings.
const (
	Plain Packing = ""
	Gzip  Packing = "gzip"
	Zstd  Packing = "zstd"
)

// Ending returns the usual ending of names of such files, without a dot before the first.
func Ending(f Format, p Packing) string {
	ending := map[Format]string{CSV: "csv", JSONLines: "jsonl"}[f]
	if ending == "" {
		ending = "txt"
	}
	return ending + map[Packing]string{Gzip: ".gz", Zstd: ".zst"}[p]
}

// Writer writes entries one by one. Close writes the rest; without it the file is not whole.
type Writer struct {
	format  Format
	out     *bufio.Writer
	packer  io.Closer // nil for a plain file
	table   *csv.Writer
	skipped int
}

// NewWriter returns a writer of files.
func NewWriter(w io.Writer, f Format, p Packing) (*Writer, error) {
	out := &Writer{format: f}
	switch p {
	case Gzip:
		packer := gzip.NewWriter(w)
		out.packer, w = packer, packer
	case Zstd:
		packer, err := zstd.NewWriter(w, zstd.WithEncoderConcurrency(1))
		if err != nil {
			return nil, err
		}
		out.packer, w = packer, packer
	}
	out.out = bufio.NewWriterSize(w, 64<<10)
	if f == CSV {
		out.table = csv.NewWriter(out.out)
		return out, out.table.Write([]string{"entry", "kind", "carve-out", "until", "off", "note"})
	}
	return out, nil
}

// Write writes one entry. [Domains] and [Hosts] hold hosts only: other entries are counted, and told at the end.
func (w *Writer) Write(e pattern.Entry) error {
	bare := pattern.Entry{Pattern: e.Pattern, CarveOut: e.CarveOut}.String()
	switch w.format {
	case CSV:
		return w.table.Write([]string{bare, string(e.Kind()), strconv.FormatBool(e.CarveOut), e.Until.String(), strconv.FormatBool(e.Off), e.Note})
	case JSONLines:
		line, err := json.Marshal(Record{bare, e.CarveOut, e.Until.String(), e.Off, e.Note})
		if err == nil {
			_, err = w.out.Write(append(line, '\n'))
		}
		return err
	case Domains, Hosts:
		if e.Kind() == pattern.Note {
			_, err := w.out.WriteString(e.String() + "\n")
			return err
		}
		if k := e.Kind(); e.CarveOut || e.Off || k != pattern.Site && k != pattern.Host || e.Pattern.IsGlob() || w.format == Hosts && k == pattern.Below {
			w.skipped++
			return nil
		}
		address := ""
		if w.format == Hosts {
			address = "0.0.0.0 "
		}
		_, err := w.out.WriteString(address + e.Pattern.Name() + "\n")
		return err
	}
	_, err := w.out.WriteString(e.String() + "\n")
	return err
}

// Close ends the file.
func (w *Writer) Close() error {
	if w.skipped > 0 {
		fmt.Fprintf(w.out, "# %d entries of the list cannot be written in this format and are left out.\n", w.skipped)
	}
	if w.table != nil {
		w.table.Flush()
		if err := w.table.Error(); err != nil {
			return err
		}
	}
	if err := w.out.Flush(); err != nil || w.packer == nil {
		return err
	}
	return w.packer.Close()
}
