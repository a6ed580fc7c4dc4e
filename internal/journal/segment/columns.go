package segment

import (
	"net/netip"
	"strconv"
	"strings"

	"github.com/google/uuid"

	"widelark/core/classify"
	"widelark/core/policy"
	"widelark/core/weburl"
	"widelark/internal/journal"
)

// Column is a field of records of which a segment keeps every value once, and for each record which of them it has.
type Column uint8

// The columns. Ids are 16 bytes, or none for the zero id; sets of ids are one after another; sets of words are separated by commas; numbers are decimal.
const (
	Verdict Column = iota
	Person
	Machine
	Address // 4 or 16 bytes
	Network
	Groups
	Gate
	GateName
	Sight
	Method
	Origin // of the URL: scheme, host and port
	Categories
	Source
	Rung
	Policy
	Rule
	Exception
	Stint
	List
	Entry
	Notes
	By
	Provisos
	NotHeld
	Traits
	Referrer
	Agent
	Revision
	Catalogue
	Outcome
	Status
	Media

	Rest // of the URL: path and query; the columns from here on have many values, and are kept apart
	Words
	Detail
	Reference
	position // of the batch that brought a record, where a segment is made of several

	columnCount
	keyed = Rest // columns before it are keyed: their values and counts are in the head
)

// access is how a column is read of a record, and written to one.
var access = [columnCount]struct {
	get func(*journal.Record) string
	set func(*journal.Record, string)
}{
	Verdict:    text(func(r *journal.Record) *policy.Verdict { return &r.Verdict }),
	Person:     id(func(r *journal.Record) *uuid.UUID { return &r.Person }),
	Machine:    id(func(r *journal.Record) *uuid.UUID { return &r.Machine }),
	Address:    {func(r *journal.Record) string { return string(r.Address.AsSlice()) }, func(r *journal.Record, v string) { r.Address, _ = netip.AddrFromSlice([]byte(v)) }},
	Network:    id(func(r *journal.Record) *uuid.UUID { return &r.Network }),
	Groups:     ids(func(r *journal.Record) *[]uuid.UUID { return &r.Groups }),
	Gate:       text(func(r *journal.Record) *policy.Gate { return &r.Gate }),
	GateName:   text(func(r *journal.Record) *string { return &r.GateName }),
	Sight:      text(func(r *journal.Record) *weburl.Sight { return &r.Sight }),
	Method:     text(func(r *journal.Record) *string { return &r.Method }),
	Origin:     {func(r *journal.Record) string { origin, _ := Split(r.URL); return origin }, func(r *journal.Record, v string) { r.URL = v + r.URL }},
	Categories: words(func(r *journal.Record) *[]string { return &r.Categories }),
	Source:     text(func(r *journal.Record) *classify.Source { return &r.Source }),
	Rung:       text(func(r *journal.Record) *policy.Rung { return &r.Rung }),
	Policy:     id(func(r *journal.Record) *uuid.UUID { return &r.Policy }),
	Rule:       id(func(r *journal.Record) *uuid.UUID { return &r.Rule }),
	Exception:  id(func(r *journal.Record) *uuid.UUID { return &r.Exception }),
	Stint:      id(func(r *journal.Record) *uuid.UUID { return &r.Stint }),
	List:       id(func(r *journal.Record) *uuid.UUID { return &r.List }),
	Entry:      text(func(r *journal.Record) *string { return &r.Entry }),
	Notes:      ids(func(r *journal.Record) *[]uuid.UUID { return &r.Notes }),
	By:         text(func(r *journal.Record) *string { return &r.By }),
	Provisos:   text(func(r *journal.Record) *string { return &r.Provisos }),
	NotHeld:    text(func(r *journal.Record) *string { return &r.NotHeld }),
	Traits:     words(func(r *journal.Record) *[]policy.Trait { return &r.Traits }),
	Referrer:   text(func(r *journal.Record) *string { return &r.Referrer }),
	Agent:      text(func(r *journal.Record) *string { return &r.Agent }),
	Revision:   number(func(r *journal.Record) *int64 { return &r.Revision }),
	Catalogue:  number(func(r *journal.Record) *int64 { return &r.Catalogue }),
	Outcome:    text(func(r *journal.Record) *journal.Outcome { return &r.Outcome }),
	Status:     number(func(r *journal.Record) *int { return &r.Status }),
	Media:      text(func(r *journal.Record) *string { return &r.Media }),
	Rest:       {func(r *journal.Record) string { _, rest := Split(r.URL); return rest }, func(r *journal.Record, v string) { r.URL += v }},
	Words:      text(func(r *journal.Record) *string { return &r.Words }),
	Detail:     text(func(r *journal.Record) *string { return &r.Detail }),
	Reference:  text(func(r *journal.Record) *string { return &r.Reference }),
	position:   {func(*journal.Record) string { return "" }, func(*journal.Record, string) {}},
}

// accessor is the type of one element of access.
type accessor = struct {
	get func(*journal.Record) string
	set func(*journal.Record, string)
}

func text[T ~string](field func(*journal.Record) *T) accessor {
	return accessor{func(r *journal.Record) string { return string(*field(r)) }, func(r *journal.Record, v string) { *field(r) = T(v) }}
}

func number[T int | int64](field func(*journal.Record) *T) accessor {
	return accessor{
		func(r *journal.Record) string {
			if *field(r) == 0 {
				return ""
			}
			return strconv.FormatInt(int64(*field(r)), 10)
		},
		func(r *journal.Record, v string) { *field(r) = T(Number(v)) },
	}
}

// Number returns what a column of numbers says.
func Number(value string) int64 {
	n, _ := strconv.ParseInt(value, 10, 64) // 0 for none
	return n
}

func id(field func(*journal.Record) *uuid.UUID) accessor {
	return accessor{
		func(r *journal.Record) string {
			if *field(r) == uuid.Nil {
				return ""
			}
			return string(field(r)[:])
		},
		func(r *journal.Record, v string) { copy(field(r)[:], v) },
	}
}

func ids(field func(*journal.Record) *[]uuid.UUID) accessor {
	return accessor{
		func(r *journal.Record) string {
			var b strings.Builder
			for _, one := range *field(r) {
				b.Write(one[:])
			}
			return b.String()
		},
		func(r *journal.Record, v string) { *field(r) = UUIDs(v) },
	}
}

// UUIDs returns the ids that a value of a column of ids, or of sets of ids, has.
func UUIDs(value string) (ids []uuid.UUID) {
	for ; len(value) >= len(uuid.Nil); value = value[len(uuid.Nil):] {
		ids = append(ids, uuid.UUID([]byte(value[:len(uuid.Nil)])))
	}
	return ids
}

func words[T ~string](field func(*journal.Record) *[]T) accessor {
	return accessor{
		func(r *journal.Record) string {
			var b strings.Builder
			for i, one := range *field(r) {
				if i > 0 {
					b.WriteByte(',')
				}
				b.WriteString(string(one))
			}
			return b.String()
		},
		func(r *journal.Record, v string) {
			for _, one := range Several(v) {
				*field(r) = append(*field(r), T(one))
			}
		},
	}
}

// Several returns the words that a value of a column of sets of words has.
func Several(value string) []string {
	if value == "" {
		return nil
	}
	return strings.Split(value, ",")
}

// Split splits a URL before its path or query.
func Split(url string) (origin, rest string) {
	begin := 0
	if at := strings.Index(url, "://"); at >= 0 {
		begin = at + len("://")
	}
	if at := strings.IndexAny(url[begin:], "/?"); at >= 0 {
		return url[:begin+at], url[begin+at:]
	}
	return url, ""
}

// Host returns the host of an origin.
func Host(origin string) string {
	if at := strings.Index(origin, "://"); at >= 0 {
		origin = origin[at+len("://"):]
	}
	if at := strings.LastIndexByte(origin, '@'); at >= 0 {
		origin = origin[at+1:]
	}
	if port := strings.LastIndexByte(origin, ':'); port > strings.LastIndexByte(origin, ']') {
		origin = origin[:port]
	}
	return origin
}
