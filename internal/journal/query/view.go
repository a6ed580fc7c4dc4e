package query

import (
	"errors"
	"slices"

	"github.com/google/uuid"

	"widelark/internal/access"
	"widelark/internal/journal"
	"widelark/internal/journal/segment"
)

// View is what a reader may see of the journal. The zero View is nothing.
type View struct {
	All  bool        // records of everybody
	Only []uuid.UUID // otherwise those of requests that belong to one of these groups

	Names bool        // who asked, of everybody: person, machine and address
	Named []uuid.UUID // otherwise of requests that belong to one of these groups
}

// Whole is the view of the service itself, which sees everything.
var Whole = View{All: true, Names: true}

// ViewOf returns what somebody who holds some roles may see.
func ViewOf(held []access.Held) (v View) {
	v.Only, v.All = access.Within(held, access.ReadJournal)
	v.Named, v.Names = access.Within(held, access.SeeNames)
	return v
}

// ErrHidden is returned where a search hangs on who asked, and its reader may not see that.
var ErrHidden = errors.New("this account may not see who asked: person, machine and address are not searched, counted or exported")

// Has reports whether a record may be seen.
func (v View) Has(r *journal.Record) bool { return v.All || within(r, v.Only) }

// HasNames reports whether it may be seen who asked.
func (v View) HasNames(r *journal.Record) bool { return v.Names || within(r, v.Named) }

func within(r *journal.Record, groups []uuid.UUID) bool {
	return slices.ContainsFunc(r.Groups, func(g uuid.UUID) bool { return slices.Contains(groups, g) })
}

// Shown returns a record as it may be seen: without who asked, where that is hidden.
func (v View) Shown(r journal.Record) journal.Record {
	if !v.HasNames(&r) {
		r = r.WithoutWho()
	}
	return r
}

// SaysWho reports whether a field says who asked.
func SaysWho(field string) bool { return field == "person" || field == "machine" || field == "address" }

// Hides reports whether the reader may see a field of no record.
func (v View) Hides(field string) bool {
	return SaysWho(field) && !v.Names && len(v.Named) == 0
}

// bound returns a filter with the bounds of the view; who reports that it hangs on who asked.
func (v View) bound(f segment.Filter, who bool) segment.Filter {
	bounds := segment.And{}
	if !v.All {
		bounds = append(bounds, oneOf(segment.Groups, v.Only))
	}
	if who && !v.Names {
		bounds = append(bounds, oneOf(segment.Groups, v.Named))
	}
	if len(bounds) == 0 {
		return f
	}
	return append(bounds, f)
}

// Bound returns a filter that selects the records that may be seen.
func (v View) Bound() segment.Filter { return v.bound(segment.And{}, false) }

// ShowsWho reports whether the reader may see who asked, of everything that a search finds.
func (s Search) ShowsWho() bool { return s.view.Names }

// OfWho returns the search for those records alone of which its reader may see who asked. The error is [ErrHidden].
func (s Search) OfWho() (Search, error) {
	if !s.view.Names && len(s.view.Named) == 0 {
		return s, ErrHidden
	}
	s.Filter = s.view.bound(s.Filter, true)
	return s, nil
}
