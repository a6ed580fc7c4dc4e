package pattern

import (
	"bufio"
	"bytes"
	"errors"
	"io"
	"strings"

	"golang.org/x/text/encoding/unicode"
	"golang.org/x/text/transform"

	"widelark/core/weburl"
)

// Reading is a way to read the lines of a file or a paste.
type Reading string

// The readings.
const (
	Exact   Reading = "exact"   // each line is notation, or refused: [Parse]
	Mending Reading = "mending" // text that people keep and paste is turned into the entry that it means: [Mend]
)

// MaxLine is the longest line that is read, in bytes: a pattern of MaxLength with a note of several pages. A longer line is refused and skipped
// without being held in memory.
const MaxLine = 64 << 10

// Line is the result of reading one line of a file. Exactly one of the following holds: the line is blank (no entries, no error), a note alone,
// good (entries and no changes), changed (entries and changes), or refused (Err).
type Line struct {
	Number  int    // 1-based
	Text    string // as in the file, without the line end; cut off if it is longer than MaxLine
	Entries []Entry
	Changes []string
	Err     *Error // with line and column set
}

// Outcome is the kind of result of a line.
type Outcome string

// The outcomes. Good and Changed lines give entries.
const (
	Blank    Outcome = "blank"
	NoteOnly Outcome = "note"
	Good     Outcome = "good"
	Changed  Outcome = "changed"
	Refused  Outcome = "refused"
)

// Outcome returns the kind of result of the line.
func (l Line) Outcome() Outcome {
	switch {
	case l.Err != nil:
		return Refused
	case len(l.Entries) == 0:
		return Blank
	case l.Entries[0].Kind() == Note:
		return NoteOnly
	case len(l.Changes) > 0:
		return Changed
	}
	return Good
}

// ReadLines reads a list file and calls each with every line, in order. Lines may end with LF, CR LF or CR, also mixed. A byte-order mark tells
// UTF-8 from UTF-16 and is left out. It stops at the first error of r or of each, and returns that error. It holds one line at a time in memory.
func ReadLines(r io.Reader, reading Reading, each func(Line) error) error {
	decoded := transform.NewReader(r, unicode.BOMOverride(transform.Nop))
	in := bufio.NewReaderSize(decoded, 64<<10)
	for number := 1; ; number++ {
		text, long, err := readLine(in)
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return err
		}
		line := Line{Number: number, Text: text, Err: lineTooLong(number)}
		if !long {
			line = ReadLine(number, text, reading)
		}
		if err := each(line); err != nil {
			return err
		}
	}
}

// ReadLine reads one line as [ReadLines] reads the lines of a file. number is the 1-based line number for the result.
func ReadLine(number int, text string, reading Reading) Line {
	line := Line{Number: number, Text: text}
	if len(text) > MaxLine {
		line.Err = lineTooLong(number)
		return line
	}
	line.read(reading)
	if line.Err != nil {
		line.Err.Line = number
	}
	return line
}

func lineTooLong(number int) *Error {
	return &Error{Line: number, Column: MaxLine + 1, Code: TooLong, Found: "more text", Expected: "a line of at most 65536 bytes"}
}

func (l *Line) read(reading Reading) {
	if site, ok := PlainSite(l.Text); ok {
		l.Entries = []Entry{site}
		return
	}
	var err error
	if reading == Mending {
		var mended Mended
		mended, err = Mend(l.Text)
		l.Entries, l.Changes = mended.Entries, mended.Changes
	} else {
		var entry Entry
		if entry, err = Parse(l.Text); err == nil && entry != (Entry{}) {
			l.Entries = []Entry{entry}
		}
	}
	if err != nil && !errors.As(err, &l.Err) {
		panic("bug: an error without a place: " + err.Error())
	}
}

// PlainSite reads a line that is nothing but a host name, as nearly all lines of a large file are. It may refuse a line in which [Parse] and
// [Mend] would both read a site; it never accepts any other line.
func PlainSite(line string) (Entry, bool) {
	if len(line) > 200 || !strings.Contains(line, ".") || !weburl.IsPlainName(line) {
		return Entry{}, false
	}
	for i := 0; i < len(line); i++ { // labels are 63 characters at most, and begin and end with no hyphen: the parser says
		if line[i] == '_' || line[i] == '-' && (i == 0 || line[i-1] == '.' || i+1 == len(line) || line[i+1] == '.') {
			return Entry{}, false
		}
	}
	for label, rest, more := strings.Cut(line, "."); ; label, rest, more = strings.Cut(rest, ".") {
		if len(label) > 63 {
			return Entry{}, false
		}
		if !more {
			return Entry{Pattern: Named(line, AndBelow)}, true
		}
	}
}

// IsPlainName reports whether text is a host name in its canonical form. It may report false for such a name, never true for another text. It
// costs next to nothing.
func IsPlainName(text string) bool { return weburl.IsPlainName(text) }

// readLine returns the next line without its end, and whether it was cut. The error is io.EOF after the last line; a
// file that ends with a line end has no empty line after it.
func readLine(in *bufio.Reader) (text string, long bool, err error) {
	var held []byte
	for read := false; ; read = true {
		piece, err := in.Peek(1)
		if len(piece) == 0 {
			if errors.Is(err, io.EOF) && (read || held != nil) {
				return string(held), long, nil
			}
			return "", false, err
		}
		piece, _ = in.Peek(in.Buffered())
		end := bytes.IndexAny(piece, "\r\n")
		taken := piece
		if end >= 0 {
			taken = piece[:end]
		}
		if room := MaxLine - len(held); len(taken) > room {
			taken, long = taken[:room], true
		}
		held = append(held, taken...)
		if end < 0 {
			if held == nil {
				held = []byte{}
			}
			_, _ = in.Discard(len(piece))
			continue
		}
		last := piece[end]
		_, _ = in.Discard(end + 1)
		if last == '\r' {
			if next, _ := in.Peek(1); len(next) == 1 && next[0] == '\n' {
				_, _ = in.Discard(1)
			}
		}
		return string(held), long, nil
	}
}
