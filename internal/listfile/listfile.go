// Package listfile reads and writes lists in the formats that other programs use: the notation, one domain a line, hosts files, CSV and JSON
// Lines, plain or compressed with gzip or zstd.
//
// From: a file as somebody keeps it.
// To: the same [pattern.Line] for every format, so that all give the same report.
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
	"widelark/spreadsheet"
)

// Format is the format of a list file.
type Format string

// The formats.
const (
	Lines     Format = "lines"   // the notation; read with mending, also a domain a line and hosts files
	Domains   Format = "domains" // one domain a line
	Hosts     Format = "hosts"   // an address and names, as name resolvers read them (hosts(5))
	CSV       Format = "csv"     // RFC 4180, with a first row that names the columns
	JSONLines Format = "jsonl"   // one JSON object a line
	Zone      Format = "zone"    // a response policy zone, as a master file; only read
)

// Formats lists every format.
var Formats = []Format{Lines, Domains, Hosts, CSV, JSONLines}

// Options are the options of reading a file. The zero Options read the notation exactly.
type Options struct {
	Format  Format // "" for Lines
	Reading pattern.Reading
	Entry   string // for CSV and JSON Lines: the column or field of the entry; "" for the first column, or the field "entry"
	Note    string // the column or field of the note; "" for the one named "note", if any
	Until   string // the column or field of the last day; "" for the one named "until", if any
}

// Error describes a fault of a file as a whole.
type Error struct{ Msg string }

// Error returns the message.
func (e *Error) Error() string { return e.Msg }

// Unpacked returns the content of a file that is compressed with gzip (RFC 1952) or zstd (RFC 8878), which it recognises by the first bytes, or
// plain. It does not bound the decompressed size: the caller must. The caller closes the result.
func Unpacked(r io.Reader) (io.ReadCloser, error) {
	source := &source{r: r}
	in := bufio.NewReaderSize(source, 64<<10)
	head, _ := in.Peek(4) // a shorter file is not compressed; reading it returns the error again
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

// packed is a decompressed file. It tells errors of the decoder from those of the underlying reader.
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

// Read calls each with every line of a file, in order, as [pattern.ReadLines] does. It reads files from [Writer] exactly, whatever Options.Reading
// is.
func Read(r io.Reader, o Options, each func(pattern.Line) error) error {
	switch o.Format {
	case CSV:
		return readCSV(r, o, each)
	case JSONLines:
		return readJSON(r, o, each)
	case Zone:
		return readZone(r, each)
	case Domains, Hosts:
		return pattern.ReadLines(r, pattern.Mending, func(l pattern.Line) error { return each(marked(l)) })
	}
	in := bufio.NewReaderSize(r, 4<<10)
	head, _ := in.Peek(len("\ufeff" + exactMark + "\r"))
	if after, marked := strings.CutPrefix(strings.TrimPrefix(string(head), "\ufeff"), exactMark); marked && (after == "" || after[0] == '\n' || after[0] == '\r') {
		return pattern.ReadLines(in, pattern.Exact, func(l pattern.Line) error { return each(unmarked(l)) })
	}
	return pattern.ReadLines(in, o.Reading, each)
}

// ReadTexts is [Read] for lines of notation that are already split, as they come from a clipboard.
func ReadTexts(lines []string, reading pattern.Reading, each func(pattern.Line) error) error {
	marked := len(lines) > 0 && strings.TrimPrefix(lines[0], "\ufeff") == exactMark
	if marked {
		reading = pattern.Exact
	}
	for i, text := range lines {
		line := pattern.ReadLine(i+1, strings.TrimPrefix(text, "\ufeff"), reading)
		if marked {
			line = unmarked(line)
		}
		if err := each(line); err != nil {
			return err
		}
	}
	return nil
}

// unmarked drops the line with [exactMark] from the start of a file, as it is not a note of the list.
func unmarked(l pattern.Line) pattern.Line {
	if l.Number == 1 {
		l.Entries = nil
	}
	return l
}

const (
	// exactMark is the first line of a notation file from a [Writer]: the file is read exactly, without mending.
	exactMark = "#: notation"

	// mark begins a comment that holds the entry itself, in files of domains and hosts whose format cannot hold all of it.
	mark = "#:"

	// markSaid begins a comment for people.
	markSaid = "#:#"
)

// marked returns the entry in the comment after [mark] if the line has one, and otherwise the line as it is.
func marked(l pattern.Line) pattern.Line {
	at := strings.IndexByte(l.Text, '#')
	if at < 0 || !strings.HasPrefix(l.Text[at:], mark) || at > 0 && l.Text[at-1] != ' ' {
		return l
	}
	if strings.HasPrefix(l.Text[at:], markSaid) {
		return pattern.Line{Number: l.Number, Text: l.Text}
	}
	if read := pattern.ReadLine(l.Number, strings.TrimSpace(l.Text[at+len(mark):]), pattern.Exact); read.Err == nil && len(read.Entries) == 1 {
		return pattern.Line{Number: l.Number, Text: l.Text, Entries: read.Entries}
	}
	return l
}

// record is a row of CSV or an object of JSON.
type record struct {
	entry, note, until, off string
	kind                    string // if set, a [Writer] wrote the record, and its entry is notation
	carveOut                bool   // from a field of its own; the entry may also be marked as a carve-out itself
}

// line turns a record into a line.
func (rec record) line(number int, text string, o Options) pattern.Line {
	l := pattern.Line{Number: number, Text: text}
	note := strings.TrimSpace(lineEnds.Replace(rec.note))
	if strings.TrimSpace(rec.entry) == "" {
		if rec.kind == string(pattern.Note) && note != "" {
			l.Entries = []pattern.Entry{{Note: note}}
		}
		return l
	}
	if slices.Contains(pattern.Kinds, pattern.Kind(rec.kind)) {
		o.Reading = pattern.Exact
	}
	read := pattern.ReadLine(number, lineEnds.Replace(rec.entry), o.Reading)
	l.Entries, l.Changes, l.Err = read.Entries, read.Changes, read.Err
	refuse := func(found, expected string) {
		l.Entries, l.Changes = nil, nil
		l.Err = &pattern.Error{Column: 1, Code: pattern.BadAttribute, Found: found, Expected: expected}
	}
	var day pattern.Date
	if until := strings.TrimSpace(rec.until); until != "" && l.Err == nil {
		var err error
		if day, err = pattern.ParseDate(until); err != nil {
			refuse(until, "a last day as 2026-12-24")
		}
	}
	off, known := switches[strings.ToLower(strings.TrimSpace(rec.off))]
	if !known && l.Err == nil {
		refuse(rec.off, "true or false, for whether the entry is switched off")
	}
	for i := range l.Entries {
		e := &l.Entries[i]
		e.Off, e.CarveOut = e.Off || off, e.CarveOut || rec.carveOut
		if note != "" {
			e.Note = note
		}
		if !day.IsZero() {
			e.Until = day
		}
	}
	if l.Err != nil {
		l.Err.Line = number
	}
	return l
}

var lineEnds = strings.NewReplacer("\r\n", " ", "\r", " ", "\n", " ")

// switches are the accepted values of a column that says whether an entry is switched off.
var switches = map[string]bool{"": false, "false": false, "no": false, "0": false, "on": false, "true": true, "yes": true, "1": true, "off": true}

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
	called := func(wanted string) int {
		return slices.IndexFunc(head, func(name string) bool { return strings.EqualFold(strings.TrimSpace(name), wanted) })
	}
	var missing error
	column := func(wanted, usual string) int {
		if wanted == "" {
			return called(usual)
		}
		at := called(wanted)
		if number, err := strconv.Atoi(wanted); at < 0 && err == nil && number >= 1 && number <= len(head) {
			at = number - 1
		}
		if at < 0 && missing == nil {
			missing = &Error{fmt.Sprintf("the file has no column %q; its first row names %s", wanted, strings.Join(quoted(head), ", "))}
		}
		return at
	}
	entry, note, until, off, kind := column(o.Entry, "entry"), column(o.Note, "note"), column(o.Until, "until"), called("off"), called("kind")
	if missing != nil {
		return missing
	}
	entry = max(entry, 0)
	for {
		row, err := in.Read()
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return csvError(err)
		}
		cell := func(at int) string {
			if at < 0 || at >= len(row) {
				return ""
			}
			return spreadsheet.Plain(row[at])
		}
		number, _ := in.FieldPos(0)
		l := record{cell(entry), cell(note), cell(until), cell(off), cell(kind), false}.line(number, strings.Join(row, ","), o)
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

// skipMark skips a byte-order mark.
func skipMark(r io.Reader) io.Reader {
	in := bufio.NewReader(r)
	if head, _ := in.Peek(3); bytes.Equal(head, []byte("\ufeff")) {
		_, _ = in.Discard(3)
	}
	return in
}

// Record is an entry in a JSON Lines file.
type Record struct {
	Entry    string       `json:"entry"`
	Kind     pattern.Kind `json:"kind"`
	CarveOut bool         `json:"carveOut,omitempty"`
	Until    string       `json:"until,omitempty"`
	Off      bool         `json:"off,omitempty"`
	Note     string       `json:"note,omitempty"`
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
	entry, given := fields[names[0]].(string)
	kind, _ := fields["kind"].(string)
	if given && entry == "" && texts[1] != "" { // a line that is a note alone
		kind = string(pattern.Note)
	}
	if entry == "" && kind != string(pattern.Note) {
		return pattern.Line{Number: number, Text: text, Err: &pattern.Error{
			Line: number, Column: 1, Code: pattern.NotText, Found: shorten(text), Expected: fmt.Sprintf("a field %q with the entry", names[0]),
		}}
	}
	carveOut, _ := fields["carveOut"].(bool)
	off := ""
	if fields["off"] != nil {
		off = fmt.Sprint(fields["off"])
	}
	return record{entry, texts[1], texts[2], off, kind, carveOut}.line(number, text, o)
}

func shorten(text string) string {
	if len(text) > 60 {
		return strings.ToValidUTF8(text[:60], "") + "…"
	}
	return text
}

// readLine returns a line without its line end, cut off after [pattern.MaxLine] bytes.
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
