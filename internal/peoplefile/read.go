// Package peoplefile reads files of people: exports of a directory (LDIF, RFC 2849) and tables (CSV, RFC 4180).
//
// From: a file.
// To: [File], and together with the people and groups that exist already, [Plan]: the changes that bring them up to date.
package peoplefile

import (
	"bytes"
	"cmp"
	"encoding/csv"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"regexp"
	"slices"
	"strings"
	"unicode/utf8"

	"github.com/go-ldap/ldap/v3"
	"github.com/go-ldap/ldif"

	"widelark/spreadsheet"
)

// Person is a person in a file.
type Person struct {
	Key      string // identifies the person in later files
	Stable   string // identifies the person for good, also under another name; "" where the file has nothing that does
	Name     string // the sign-in name
	FullName string
	Mail     string
	Groups   []string // keys of groups
}

// Group is a group in a file.
type Group struct {
	Key, Name, Description string
	Stable                 string   // as a person's
	Within                 []string // keys of the groups that it is a member of
}

// File is the content of a file. Left describes what could not be used, a sentence each.
type File struct {
	People []Person
	Groups []Group
	Left   []string
}

// Error describes why a file cannot be read.
type Error struct {
	Line int // 1-based; 0 if the error is about the whole file
	Msg  string
}

// Error returns the message, with the line before it.
func (e *Error) Error() string {
	if e.Line == 0 {
		return e.Msg
	}
	return fmt.Sprintf("line %d: %s", e.Line, e.Msg)
}

// outside matches a value that refers to another file (RFC 2849, note 7). It is refused: an import must not read other files of this machine.
var outside = regexp.MustCompile(`(?m)^[A-Za-z0-9.;-]+:<`)

// ReadLDIF reads the export of a directory. Entries of a person's class with a sign-in name (uid) are people, entries with members are groups.
// Keys are distinguished names.
func ReadLDIF(r io.Reader) (File, error) { return ReadLDIFBy(r, Attributes{}) }

// ReadLDIFBy is ReadLDIF with other attributes.
func ReadLDIFBy(r io.Reader, by Attributes) (File, error) {
	var f File
	text, err := io.ReadAll(r)
	if err != nil {
		return f, err
	}
	text = bytes.TrimPrefix(text, []byte("\uFEFF"))
	text, lineOf := unfold(text) // the library's time grows with the square of the number of continuation lines
	if at := outside.FindIndex(text); at != nil {
		return f, &Error{lineOf(1 + bytes.Count(text[:at[0]], []byte("\n"))), "a value is in another file (\":<\"); only values in the file itself are read"}
	}
	var parsed ldif.LDIF
	if err := ldif.Unmarshal(bytes.NewReader(text), &parsed); err != nil {
		var wrong *ldif.ParseError
		if errors.As(err, &wrong) {
			return f, &Error{lineOf(wrong.Line), "it is not LDIF there: " + wrong.Message}
		}
		return f, &Error{0, "it is not LDIF: " + err.Error()}
	}
	var entries []*ldap.Entry
	var left []string
	for _, one := range parsed.Entries {
		if one.Entry == nil {
			left = append(left, "a change record was passed over: only entries are read")
			continue
		}
		entries = append(entries, one.Entry)
	}
	return FromEntries(entries, by, left)
}

// Attributes names the attributes of a directory that say how a person signs in, and what identifies an entry for good. The zero Attributes are those of RFC 4519 and
// RFC 4530: uid and entryUUID.
type Attributes struct{ Name, Stable string }

// FromEntries returns people and groups of the entries of a directory, as [ReadLDIF] does. left is what could not be used so far.
func FromEntries(entries []*ldap.Entry, by Attributes, left []string) (File, error) {
	f := File{Left: left}
	members := map[string][]string{} // keys of groups by keys of their members
	for _, e := range entries {
		first := func(names ...string) string {
			for _, name := range names {
				if v := strings.TrimSpace(e.GetEqualFoldAttributeValue(name)); v != "" {
					return v
				}
			}
			return ""
		}
		classes := strings.ToLower(strings.Join(e.GetEqualFoldAttributeValues("objectClass"), " "))
		key, stable := foldDN(e.DN), stableKey(e, cmp.Or(by.Stable, "entryUUID"))
		switch {
		case strings.Contains(classes, "group"):
			name := first("cn", "ou")
			if name == "" {
				f.Left = append(f.Left, fmt.Sprintf("%s has no name (cn)", e.DN))
				continue
			}
			f.Groups = append(f.Groups, Group{Key: key, Name: name, Description: first("description"), Stable: stable})
			for _, attribute := range []string{"member", "uniqueMember"} {
				for _, dn := range e.GetEqualFoldAttributeValues(attribute) {
					members[foldDN(dn)] = append(members[foldDN(dn)], key)
				}
			}
		case strings.Contains(classes, "person"):
			p := Person{Key: key, Stable: stable, Name: first(cmp.Or(by.Name, "uid"), "cn"), FullName: first("displayName", "cn"), Mail: first("mail")}
			if p.Name == "" {
				f.Left = append(f.Left, fmt.Sprintf("%s has no name (%s or cn)", e.DN, cmp.Or(by.Name, "uid")))
				continue
			}
			for _, dn := range e.GetEqualFoldAttributeValues("memberOf") {
				members[key] = append(members[key], foldDN(dn))
			}
			f.People = append(f.People, p)
		}
	}
	known := map[string]bool{}
	for _, g := range f.Groups {
		known[g.Key] = true
	}
	in := func(member string) (groups []string) {
		seen := map[string]bool{member: true}
		for _, group := range members[member] {
			if known[group] && !seen[group] {
				seen[group] = true
				groups = append(groups, group)
			}
		}
		return groups
	}
	for i := range f.People {
		f.People[i].Groups = in(f.People[i].Key)
	}
	for i := range f.Groups {
		f.Groups[i].Within = in(f.Groups[i].Key)
	}
	return f.checked()
}

// stableKey returns the value of an attribute that identifies an entry for good: as it is, or in hexadecimal digits where it is no text.
func stableKey(e *ldap.Entry, attribute string) string {
	raw := e.GetEqualFoldRawAttributeValue(attribute)
	if !utf8.Valid(raw) {
		return hex.EncodeToString(raw)
	}
	return strings.ToLower(strings.TrimSpace(string(raw)))
}

// unfold joins continuation lines, which begin with a blank, to the line before (RFC 2849, note 2). lineOf maps a line number of the result to the
// line number in text.
func unfold(text []byte) (joined []byte, lineOf func(int) int) {
	joined = make([]byte, 0, len(text))
	var numbers []int
	number := 0
	for line := range bytes.Lines(text) {
		number++
		if goesOn := line[0] == ' ' && len(joined) > 0; goesOn {
			joined = append(bytes.TrimRight(joined, "\r\n"), line[1:]...)
			continue
		}
		joined = append(joined, line...)
		numbers = append(numbers, number)
	}
	return joined, func(n int) int {
		if n < 1 || n > len(numbers) {
			return n
		}
		return numbers[n-1]
	}
}

// foldDN returns a distinguished name in a form in which common spellings of it are equal (RFC 4514): it folds letter case and drops blanks after
// commas.
func foldDN(dn string) string {
	parts := strings.Split(strings.ToLower(dn), ",")
	for i := range parts {
		parts[i] = strings.TrimSpace(parts[i])
	}
	return strings.Join(parts, ",")
}

// The accepted names of columns, in lower case without blanks and signs.
var columns = map[string]string{
	"name": "name", "uid": "name", "user": "name", "username": "name", "login": "name", "account": "name",
	"fullname": "full", "displayname": "full", "person": "full", "mail": "mail", "email": "mail", "emailaddress": "mail",
	"groups": "groups", "group": "groups", "memberof": "groups", "key": "key", "id": "key", "employeenumber": "key",
}

var signs = regexp.MustCompile(`[^a-z]+`)

// ReadCSV reads a table whose first row names its columns: name, full name, mail, groups (separated by semicolons), key. Only name is required.
// Without a key, the name is the key.
func ReadCSV(r io.Reader) (File, error) {
	var f File
	text, err := io.ReadAll(r)
	if err != nil {
		return f, err
	}
	rows := csv.NewReader(bytes.NewReader(bytes.TrimPrefix(text, []byte("\uFEFF"))))
	rows.FieldsPerRecord = -1
	rows.TrimLeadingSpace = true
	if head, _, _ := bytes.Cut(text, []byte("\n")); bytes.Count(head, []byte(";")) > bytes.Count(head, []byte(",")) {
		rows.Comma = ';'
	}
	at := map[string]int{}
	groups := map[string]bool{}
	for {
		row, err := rows.Read()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			var wrong *csv.ParseError
			if errors.As(err, &wrong) {
				return f, &Error{wrong.Line, wrong.Err.Error()}
			}
			spreadsheet.PlainRow(row)
			return f, err
		}
		line, _ := rows.FieldPos(0)
		if len(at) == 0 {
			for i, title := range row {
				if name := columns[signs.ReplaceAllString(strings.ToLower(title), "")]; name != "" {
					at[name] = i
				}
			}
			if _, ok := at["name"]; !ok {
				return f, &Error{line, "no column is called name: the first row names the columns, as name,full name,mail,groups"}
			}
			continue
		}
		cell := func(name string) string {
			if i, ok := at[name]; ok && i < len(row) {
				return strings.TrimSpace(row[i])
			}
			return ""
		}
		p := Person{Key: cell("key"), Stable: cell("key"), Name: cell("name"), FullName: cell("full"), Mail: cell("mail")}
		if p.Name == "" {
			f.Left = append(f.Left, fmt.Sprintf("line %d has no name", line))
			continue
		}
		if p.Key == "" {
			p.Key = strings.ToLower(p.Name)
		}
		for _, name := range strings.FieldsFunc(cell("groups"), func(r rune) bool { return r == ';' || r == '|' || r == '\n' }) {
			if name = strings.TrimSpace(name); name == "" {
				continue
			}
			key := "group:" + strings.ToLower(name)
			if !groups[key] {
				groups[key] = true
				f.Groups = append(f.Groups, Group{Key: key, Name: name})
			}
			if !slices.Contains(p.Groups, key) {
				p.Groups = append(p.Groups, key)
			}
		}
		f.People = append(f.People, p)
	}
	return f.checked()
}

// checked drops people that occur twice and notes them in Left. It returns an [*Error] if the file holds nobody.
func (f File) checked() (File, error) {
	byKey, byName := map[string]bool{}, map[string]bool{}
	kept := f.People[:0]
	for _, p := range f.People {
		if byKey[p.Key] || byName[strings.ToLower(p.Name)] {
			f.Left = append(f.Left, fmt.Sprintf("%q is there twice; the first counts", p.Name))
			continue
		}
		byKey[p.Key], byName[strings.ToLower(p.Name)] = true, true
		kept = append(kept, p)
	}
	f.People = kept
	if len(f.People) == 0 {
		return f, &Error{0, "nobody is in it: entries of persons are wanted, or a table with a column called name"}
	}
	return f, nil
}
