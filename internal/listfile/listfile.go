// Package listfile reads and writes lists in the formats that other programs speak: the notation, a domain a line, hosts files,
// CSV and JSON Lines, plain or packed with gzip or zstd.
//
// From: a file as somebody keeps it.
// To: lines as package pattern tells them, so that every format gives the same report.
package listfile

import (
	"bufio"
	"bytes"
	"compress/gzip"
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"

	"github.com/klauspost/compress/zstd"

	"widelark/core/pattern"
)

// Format is how a file writes entries.
type Format string

// The formats.
const (
	Lines     Format = "lines"   // the notation; read with mending, also a domain a line and hosts files
	Domains   Format = "domains" // one domain a line
	Hosts     Format = "hosts"   // an address and names, as name resolvers read them (hosts(5))
	CSV       Format = "csv"     // RFC 4180, with a first row that names the columns
	JSONLines Format = "jsonl"   // one JSON object a line
)

// Formats lists every format.
var Formats = []Format{Lines, Domains, Hosts, CSV, JSONLines}

// Options say how a file is read. The zero Options read the notation exactly.
type Options struct {
	Format  Format // "" for Lines
	Reading pattern.Reading
	Entry   string // of CSV and JSON Lines: the column or field with the entry; "" for the first column, or the field entry
	Note    string // the column or field with the note; "" for none in CSV, or the field note
	Until   string // the column or field with the last day; "" for none in CSV, or the field until
}

// Error says what is wrong with a file as a whole.
type Error struct{ Msg string }

// Error returns the message.
func (e *Error) Error() string { return e.Msg }

// Unpacked returns what a file holds once gzip (RFC 1952) or zstd (RFC 8878) is taken off, told by its first bytes. What comes out
// has no bound of its own: the caller counts. The caller closes it.
func Unpacked(r io.Reader) (io.ReadCloser, error) {
	source := &source{r: r}
	in := bufio.NewReaderSize(source, 64<<10)
	head, _ := in.Peek(4) // a shorter file is no packed one; its errors come again
	switch {
	case bytes.HasPrefix(head, []byte{0x1f, 0x8b}):
		out, err := gzip.NewReader(in)
		if err != nil {
			return nil, &Error{"the file begins like gzip, but is not: " + err.Error()}
		}
		return packed{out, source, out.Close}, nil
	case bytes.Equal(head, []byte{0x28, 0xb5, 0x2f, 0xfd}):
		out, err := zstd.NewReader(in, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxMemory(64<<20))
		if err != nil {
			return nil, &Error{"the file begins like zstd, but is not: " + err.Error()}
		}
		return packed{out, source, func() error { out.Close(); return nil }}, nil
	}
	return io.NopCloser(in), nil
}

// source remembers the error of a reader.
type source struct {
	r   io.Reader
	err error
}

func (s *source) Read(b []byte) (n int, err error) {
	n, err = s.r.Read(b)
	if err != nil && !errors.Is(err, io.EOF) {
		s.err = err
	}
	return n, err
}

// packed tells errors of unpacking apart from those of what the file came over.
type packed struct {
	io.Reader
	source *source
	close  func() error
}

func (p packed) Close() error { return p.close() }

func (p packed) Read(b []byte) (int, error) {
	n, err := p.Reader.Read(b)
	if err != nil && !errors.Is(err, io.EOF) && p.source.err == nil {
		err = &Error{"the packed file is damaged, or not whole: " + err.Error()}
	}
	return n, err
}

// Read gives every line of a file to each, in order, as [pattern.ReadLines] does.
func Read(r io.Reader, o Options, each func(pattern.Line) error) error {
	switch o.Format {
	case CSV:
		return readCSV(r, o, each)
	case JSONLines:
		return readJSON(r, o, each)
	case Domains, Hosts:
		return pattern.ReadLines(r, pattern.Mending, each)
	}
	return pattern.ReadLines(r, o.Reading, each)
}

// line makes a line of the parts of a record.
func line(number int, text, entry, note, until string, o Options) pattern.Line {
	l := pattern.Line{Number: number, Text: text}
	if strings.TrimSpace(entry) == "" {
		return l
	}
	err := pattern.ReadLines(strings.NewReader(strings.NewReplacer("\r", " ", "\n", " ").Replace(entry)), o.Reading, func(read pattern.Line) error {
		l.Entries, l.Changes, l.Err = read.Entries, read.Changes, read.Err
		return nil
	})
	if err != nil {
		panic("bug: reading from memory failed: " + err.Error())
	}
	note = strings.Join(strings.Fields(note), " ")
	for i := range l.Entries {
		if note != "" {
			l.Entries[i].Note = note
		}
		if until = strings.TrimSpace(until); until != "" {
			day, err := pattern.ParseDate(until)
			if err != nil {
				l.Entries = nil
				l.Err = &pattern.Error{Column: 1, Code: pattern.BadAttribute, Found: until, Expected: "a last day as 2026-12-24"}
				break
			}
			l.Entries[i].Until = day
		}
	}
	if l.Err != nil {
		l.Err.Line = number
	}
	return l
}

func readCSV(r io.Reader, o Options, each func(pattern.Line) error) error {
	in := csv.NewReader(skipMark(r))
	in.FieldsPerRecord, in.LazyQuotes, in.ReuseRecord = -1, true, true
	head, err := in.Read()
	if errors.Is(err, io.EOF) {
		return nil
	}
	if err != nil {
		return csvError(err)
	}
	columns := map[string]int{}
	for _, wanted := range []string{o.Entry, o.Note, o.Until} {
		if wanted == "" {
			continue
		}
		at := slices.IndexFunc(head, func(name string) bool { return strings.EqualFold(strings.TrimSpace(name), wanted) })
		if number, err := strconv.Atoi(wanted); at < 0 && err == nil && number >= 1 && number <= len(head) {
			at = number - 1
		}
		if at < 0 {
			return &Error{fmt.Sprintf("the file has no column %q; its first row names %s", wanted, strings.Join(quoted(head), ", "))}
		}
		columns[wanted] = at
	}
	cell := func(record []string, column string, otherwise int) string {
		at, ok := columns[column]
		if !ok {
			at = otherwise
		}
		if at < 0 || at >= len(record) {
			return ""
		}
		return record[at]
	}
	for {
		record, err := in.Read()
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return csvError(err)
		}
		number, _ := in.FieldPos(0)
		l := line(number, strings.Join(record, ","), cell(record, o.Entry, 0), cell(record, o.Note, -1), cell(record, o.Until, -1), o)
		if err := each(l); err != nil {
			return err
		}
	}
}

func csvError(err error) error {
	var wrong *csv.ParseError
	if errors.As(err, &wrong) {
		return &Error{fmt.Sprintf("line %d is not CSV: %s", wrong.Line, wrong.Err)}
	}
	return err
}

func quoted(names []string) []string {
	all := make([]string, len(names))
	for i, name := range names {
		all[i] = strconv.Quote(name)
	}
	return all
}

// skipMark leaves a byte-order mark out.
func skipMark(r io.Reader) io.Reader {
	in := bufio.NewReader(r)
	if head, _ := in.Peek(3); bytes.Equal(head, []byte("\ufeff")) {
		_, _ = in.Discard(3)
	}
	return in
}

// Record is an entry as JSON Lines and CSV write it.
type Record struct {
	Entry    string `json:"entry"`
	CarveOut bool   `json:"carveOut,omitempty"`
	Until    string `json:"until,omitempty"`
	Off      bool   `json:"off,omitempty"`
	Note     string `json:"note,omitempty"`
}

func readJSON(r io.Reader, o Options, each func(pattern.Line) error) error {
	names := [...]string{o.Entry, o.Note, o.Until}
	for i, usual := range [...]string{"entry", "note", "until"} {
		if names[i] == "" {
			names[i] = usual
		}
	}
	in := bufio.NewReaderSize(skipMark(r), 64<<10)
	for number := 1; ; number++ {
		text, long, err := readLine(in)
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return err
		}
		l := pattern.Line{Number: number, Text: text}
		var fields map[string]any
		switch {
		case long:
			l.Err = &pattern.Error{Line: number, Column: pattern.MaxLine + 1, Code: pattern.TooLong, Found: "more text", Expected: fmt.Sprintf("a line of at most %d bytes", pattern.MaxLine)}
		case strings.TrimSpace(text) == "":
		case json.Unmarshal([]byte(text), &fields) != nil:
			l.Err = &pattern.Error{Line: number, Column: 1, Code: pattern.NotText, Found: shorten(text), Expected: "a JSON object"}
		default:
			l = ofFields(number, text, fields, names, o)
		}
		if err := each(l); err != nil {
			return err
		}
	}
}

func ofFields(number int, text string, fields map[string]any, names [3]string, o Options) pattern.Line {
	var texts [3]string
	for i, name := range names {
		texts[i], _ = fields[name].(string)
	}
	if texts[0] == "" {
		return pattern.Line{Number: number, Text: text, Err: &pattern.Error{
			Line: number, Column: 1, Code: pattern.NotText, Found: shorten(text), Expected: fmt.Sprintf("a field %q with the entry", names[0]),
		}}
	}
	if carved, _ := fields["carveOut"].(bool); carved && !strings.HasPrefix(texts[0], "!") {
		texts[0] = "! " + texts[0]
	}
	l := line(number, text, texts[0], texts[1], texts[2], o)
	if off, _ := fields["off"].(bool); off {
		for i := range l.Entries {
			l.Entries[i].Off = true
		}
	}
	return l
}

func shorten(text string) string {
	if len(text) > 60 {
		return strings.ToValidUTF8(text[:60], "") + "…"
	}
	return text
}

// readLine returns a line without its end, cut where it is longer than [pattern.MaxLine].
func readLine(in *bufio.Reader) (text string, long bool, err error) {
	var held []byte
	for {
		piece, more, err := in.ReadLine()
		if err != nil {
			return "", false, err
		}
		if room := pattern.MaxLine - len(held); len(piece) > room {
			piece, long = piece[:room], true
		}
		if held = append(held, piece...); !more {
			return string(held), long, nil
		}
	}
}
