// Package query is the language in which records are searched.
//
// From: the text of a query, and a [World] to resolve its names in.
// To: a [Search], or an [*Error] with a column.
//
//	query  = term { ["or"] term }       side by side: all must hold; "or" binds weaker
//	term   = [ "-" ] ( field ":" value { "," value } | text | "(" query ")" )
//	value  = text | [text] ".." [text] | (">" | ">=" | "<" | "<=") text
//	text   = run of characters without blanks , ( ) : | '"' … '"' with \" and \\ inside
package query

import (
	"fmt"
	"strings"
	"unicode"
	"unicode/utf8"
)

// Bounds of a query.
const (
	mostText  = 4000 // bytes
	mostDepth = 50   // parentheses and negations within each other
)

// Error is a mistake in a query.
type Error struct {
	Column int    // of the first character that is wrong, from 1 on
	Msg    string // a clause
	Fix    string // the query as it was probably meant; "" where that cannot be told

	hidden bool // it asks for what its reader may not see
}

// Unwrap returns [ErrHidden] where that is the mistake.
func (e *Error) Unwrap() error {
	if e.hidden {
		return ErrHidden
	}
	return nil
}

// Error returns a sentence without its dot.
func (e *Error) Error() string { return fmt.Sprintf("column %d: %s", e.Column, e.Msg) }

// Node is a part of a query: [All], [Any], [No] or [*Term].
type Node interface{ node() }

// All holds where all of its parts hold; everywhere where it has none.
type All []Node

// Any holds where one of its parts holds.
type Any []Node

// No holds where its part does not.
type No struct{ Of Node }

// Term asks one thing: that a field has one of some values, or that a text occurs.
type Term struct {
	Field  string // "" for a text
	Values []Value

	from, to int // where the term is in the query, in bytes
}

// Value is what a field is compared with.
type Value struct {
	Text   string // without quotation marks; the lower bound of a range, or what a comparison is with
	Quoted bool
	Op     Op
	To     string // the upper bound of a range

	from, to int // where the value is in the query, in bytes
}

// Op is how a value is compared.
type Op string

// The comparisons.
const (
	Is      Op = ""
	Range   Op = ".." // either bound may be missing
	More    Op = ">"
	AtLeast Op = ">="
	Less    Op = "<"
	AtMost  Op = "<="
)

func (All) node()   {}
func (Any) node()   {}
func (No) node()    {}
func (*Term) node() {}

// Parse reads a query. A query of nothing is an [All] without parts. Fields are those that there are; their values are not looked at.
func Parse(text string) (Node, error) {
	p := &parser{text: text}
	if len(text) > mostText {
		return nil, p.fail(mostText, fmt.Sprintf("a query has %d characters at most", mostText), "")
	}
	if !utf8.ValidString(text) {
		return nil, p.fail(0, "the query is not UTF-8", "")
	}
	n, err := p.query(0)
	if err != nil {
		return nil, err
	}
	if p.at < len(text) { // query ends at a parenthesis alone
		return nil, p.fail(p.at, "this parenthesis closes none", text[:p.at]+text[p.at+1:])
	}
	return n, nil
}

type parser struct {
	text string
	at   int
}

// fail makes an error for a place in bytes.
func (p *parser) fail(at int, msg, fix string) error { return failAt(p.text, at, msg, fix) }

func failAt(text string, at int, msg, fix string) error {
	return &Error{Column: utf8.RuneCountInString(text[:min(at, len(text))]) + 1, Msg: msg, Fix: fix}
}

func (p *parser) blanks() {
	for p.at < len(p.text) {
		r, size := utf8.DecodeRuneInString(p.text[p.at:])
		if !unicode.IsSpace(r) {
			return
		}
		p.at += size
	}
}

func (p *parser) peek() byte {
	if p.at < len(p.text) {
		return p.text[p.at]
	}
	return 0
}

func (p *parser) query(depth int) (Node, error) {
	if depth > mostDepth {
		return nil, p.fail(p.at, fmt.Sprintf("there are more than %d parentheses within each other", mostDepth), "")
	}
	var either Any
	all := All{}
	or := -1 // where the last "or" is that nothing has followed
	for {
		p.blanks()
		if p.peek() == 0 || p.peek() == ')' {
			break
		}
		begin := p.at
		if p.word("or") {
			if len(all) == 0 {
				return nil, p.fail(begin, `nothing stands before "or"; as a text, it is written in quotation marks`, p.text[:begin]+strings.TrimSpace(p.text[p.at:]))
			}
			either, all, or = append(either, conjunction(all)), All{}, begin
			continue
		}
		n, err := p.term(depth)
		if err != nil {
			return nil, err
		}
		all, or = append(all, n), -1
	}
	if or >= 0 {
		return nil, p.fail(or, `nothing follows "or"; as a text, it is written in quotation marks`, strings.TrimRight(p.text[:or], " ")+p.text[p.at:])
	}
	if either == nil {
		return conjunction(all), nil
	}
	return append(either, conjunction(all)), nil
}

func conjunction(all All) Node {
	if len(all) == 1 {
		return all[0]
	}
	return all
}

// word takes a word that stands by itself.
func (p *parser) word(word string) bool {
	end := p.at + len(word)
	if end > len(p.text) || !strings.EqualFold(p.text[p.at:end], word) {
		return false
	}
	if end < len(p.text) {
		if r, _ := utf8.DecodeRuneInString(p.text[end:]); !unicode.IsSpace(r) && r != '(' && r != ')' {
			return false
		}
	}
	p.at = end
	return true
}

func (p *parser) term(depth int) (Node, error) {
	begin := p.at
	switch c := p.peek(); c {
	case '-':
		p.at++
		if r, _ := utf8.DecodeRuneInString(p.text[p.at:]); p.peek() == 0 || unicode.IsSpace(r) || r == ')' {
			return nil, p.fail(begin, "nothing follows the minus", "")
		}
		if depth > mostDepth {
			return nil, p.fail(begin, fmt.Sprintf("there are more than %d minuses within each other", mostDepth), "")
		}
		of, err := p.term(depth + 1)
		return No{of}, err
	case '(':
		p.at++
		n, err := p.query(depth + 1)
		if err != nil {
			return nil, err
		}
		if p.peek() != ')' {
			return nil, p.fail(begin, "this parenthesis is not closed", p.text+")")
		}
		p.at++
		if all, ok := n.(All); ok && len(all) == 0 {
			return nil, p.fail(begin, "nothing stands in these parentheses", "")
		}
		return n, nil
	case ',', '|', ':':
		return nil, p.fail(begin, fmt.Sprintf(`"%c" stands for nothing here; in a text, write it in quotation marks`, c), "")
	}
	text, quoted, err := p.run(false)
	if err != nil {
		return nil, err
	}
	if quoted || p.peek() != ':' {
		if text == "" {
			return nil, p.fail(begin, "this text is empty", "")
		}
		return &Term{Values: []Value{{Text: text, Quoted: quoted, from: begin, to: p.at}}, from: begin, to: p.at}, nil
	}
	t := &Term{Field: strings.ToLower(text), from: begin}
	f, known := fields[t.Field]
	if !known {
		if whole := p.untilBlank(begin); strings.Contains(whole, "://") {
			return nil, p.fail(begin, "a URL is written in quotation marks", p.text[:begin]+quote(whole)+p.text[begin+len(whole):])
		}
		msg, fix := fmt.Sprintf("there is no field %q", text), ""
		if near := nearest(t.Field, fieldNames); near != "" {
			msg, fix = msg+fmt.Sprintf("; perhaps %s is meant", near), p.text[:begin]+near+p.text[p.at:]
		}
		return nil, p.fail(begin, msg, fix)
	}
	for more := true; more; {
		p.at++ // the colon or comma
		v, err := p.value(f.colons)
		if err != nil {
			return nil, err
		}
		t.Values = append(t.Values, v)
		more = p.peek() == ','
	}
	t.to = p.at
	if c := p.peek(); c == ':' || c == '|' {
		whole := p.untilBlank(t.Values[len(t.Values)-1].from)
		from := t.Values[len(t.Values)-1].from
		return nil, p.fail(p.at, fmt.Sprintf(`a value with "%c" is written in quotation marks`, c), p.text[:from]+quote(whole)+p.text[from+len(whole):])
	}
	return t, nil
}

func (p *parser) untilBlank(from int) string {
	end := strings.IndexFunc(p.text[from:], func(r rune) bool { return unicode.IsSpace(r) || r == ')' })
	if end < 0 {
		return p.text[from:]
	}
	return p.text[from : from+end]
}

// run reads a text: a run of characters, or what stands in quotation marks. A run may be empty.
func (p *parser) run(colons bool) (text string, quoted bool, err error) {
	begin := p.at
	if p.peek() != '"' {
		for p.at < len(p.text) {
			r, size := utf8.DecodeRuneInString(p.text[p.at:])
			if unicode.IsSpace(r) || strings.ContainsRune(`,()|"`, r) || r == ':' && !colons {
				break
			}
			p.at += size
		}
		return p.text[begin:p.at], false, nil
	}
	var b strings.Builder
	for p.at++; ; p.at++ {
		switch c := p.peek(); {
		case p.at >= len(p.text):
			return "", true, p.fail(begin, "this quotation mark is not closed", p.text+`"`)
		case c == '"':
			p.at++
			return b.String(), true, nil
		case c == '\\':
			if next := p.text[p.at+1:]; next == "" || next[0] != '"' && next[0] != '\\' {
				return "", true, p.fail(p.at, `a backslash stands before " or \ only`, p.text[:p.at]+`\`+p.text[p.at:])
			}
			p.at++
			b.WriteByte(p.peek())
		default:
			b.WriteByte(c)
		}
	}
}

func (p *parser) value(colons bool) (v Value, err error) {
	v.from = p.at
	for _, op := range []Op{AtLeast, AtMost, More, Less} {
		if strings.HasPrefix(p.text[p.at:], string(op)) {
			v.Op = op
			p.at += len(op)
			break
		}
	}
	v.Text, v.Quoted, err = p.run(colons)
	if err != nil {
		return v, err
	}
	if v.Op == Is && !v.Quoted {
		if low, high, ok := strings.Cut(v.Text, ".."); ok {
			v.Op, v.Text, v.To = Range, low, high
		}
	}
	if v.Op == Is && v.Quoted && strings.HasPrefix(p.text[p.at:], "..") || v.Op == Range && v.To == "" && p.peek() == '"' {
		if v.Op == Is {
			p.at += len("..")
		}
		v.Op = Range
		if v.To, _, err = p.run(colons); err != nil {
			return v, err
		}
	}
	v.to = p.at
	if v.Text == "" && v.To == "" && !v.Quoted {
		return v, p.fail(v.from, "a value is missing here", "")
	}
	return v, nil
}

// quote writes a text in quotation marks.
func quote(text string) string {
	return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(text) + `"`
}

// String writes a value so that [Parse] reads it.
func (v Value) String() string {
	one := func(text string) string {
		if text == "" || strings.ContainsFunc(text, func(r rune) bool { return unicode.IsSpace(r) || strings.ContainsRune(`,()|":<>`, r) }) || strings.Contains(text, "..") {
			return quote(text)
		}
		return text
	}
	switch v.Op {
	case Is:
		return one(v.Text)
	case Range:
		low, high := "", ""
		if v.Text != "" {
			low = one(v.Text)
		}
		if v.To != "" {
			high = one(v.To)
		}
		return low + ".." + high
	}
	return string(v.Op) + one(v.Text)
}

// nearest returns which of some words was probably meant; "" where none is near.
func nearest(word string, of []string) string {
	best, least := "", len([]rune(word))/2+1
	for _, one := range of {
		if d := distance(word, strings.ToLower(one)); d < least {
			best, least = one, d
		}
	}
	return best
}

// distance returns how many characters must be put in, left out or replaced (Levenshtein).
func distance(a, b string) int {
	x, y := []rune(strings.ToLower(a)), []rune(b)
	row := make([]int, len(y)+1)
	for j := range row {
		row[j] = j
	}
	for i := range x {
		before := row[0]
		row[0] = i + 1
		for j := range y {
			cost := before
			if x[i] != y[j] {
				cost++
			}
			before = row[j+1]
			row[j+1] = min(cost, row[j]+1, before+1)
		}
	}
	return row[len(y)]
}
