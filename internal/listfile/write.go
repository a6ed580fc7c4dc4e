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
	"widelark/spreadsheet"
)

// Packing is the compression of a file.
type Packing string

// The packings.
const (
	Plain Packing = ""
	Gzip  Packing = "gzip"
	Zstd  Packing = "zstd"
)

// Ending returns the usual file name extension for a format and a packing, without its first dot.
func Ending(f Format, p Packing) string {
	ending := map[Format]string{CSV: "csv", JSONLines: "jsonl"}[f]
	if ending == "" {
		ending = "txt"
	}
	return ending + map[Packing]string{Gzip: ".gz", Zstd: ".zst"}[p]
}

// Writer writes entries one by one. The file is complete only after Close.
type Writer struct {
	format  Format
	out     *bufio.Writer
	packer  io.Closer // the compressor; nil for a plain file
	table   *csv.Writer
	skipped int
}

// NewWriter returns a writer that writes a file to out.
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
	if f != JSONLines && f != Domains && f != Hosts {
		_, err := out.out.WriteString(exactMark + "\n")
		return out, err
	}
	return out, nil
}

// Write writes one entry such that [Read] returns it. [Domains] and [Hosts] can hold names only: the rest of an entry goes into a comment, which
// other programs ignore. A comment at the end of the file gives the number of entries that are in comments only.
func (w *Writer) Write(e pattern.Entry) error {
	bare := pattern.Entry{Pattern: e.Pattern, CarveOut: e.CarveOut}.String()
	switch w.format {
	case CSV:
		return w.table.Write(spreadsheet.SafeRow([]string{bare, string(e.Kind()), strconv.FormatBool(e.CarveOut), e.Until.String(), strconv.FormatBool(e.Off), e.Note}))
	case JSONLines:
		line, err := json.Marshal(Record{bare, e.Kind(), e.CarveOut, e.Until.String(), e.Off, e.Note})
		if err == nil {
			_, err = w.out.Write(append(line, '\n'))
		}
		return err
	case Domains, Hosts:
		_, err := w.out.WriteString(w.named(e) + "\n")
		return err
	}
	_, err := w.out.WriteString(e.String() + "\n")
	return err
}

// named returns the line for an entry in a file of domains or hosts.
func (w *Writer) named(e pattern.Entry) string {
	k := e.Kind()
	if k == pattern.Note {
		return e.String()
	}
	if e.CarveOut || e.Off || k != pattern.Site && k != pattern.Host || e.Pattern.IsGlob() {
		w.skipped++
		return mark + " " + e.String()
	}
	line := e.Pattern.Name()
	if w.format == Hosts {
		line = "0.0.0.0 " + line
	}
	if read := pattern.ReadLine(1, line, pattern.Mending); len(read.Entries) == 1 && read.Entries[0] == e {
		return line
	}
	return line + " " + mark + " " + e.String()
}

// Close ends the file.
func (w *Writer) Close() error {
	if w.skipped > 0 {
		fmt.Fprintf(w.out, markSaid+" %d entries of the list cannot be written in this format, and stand in comments that other programs pass over.\n", w.skipped)
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
