package revision

import (
	"context"
	"io"

	"github.com/google/uuid"

	"widelark/core/pattern"
)

// MaxShown is how many changed and how many refused lines a report shows one by one. All are counted. A report of so many
// is some 500 KB, and nobody reads further before mending the file.
const MaxShown = 1000

// Report tells what became of every line of an import. Lines is the sum of the five outcomes.
type Report struct {
	Lines, Blank, Notes, Good, Changed, Refused int

	// Entries that the good and changed lines came to; a hosts-file line may name several. What was named twice, in
	// the file or in file and list, counts as same the second time.
	Merged

	ChangedLines []pattern.Line // the first MaxShown
	RefusedLines []pattern.Line // the first MaxShown
}

// Import reads a list file and adds what is good in it to a list, in one transaction: either all of it is kept or, where an
// error is returned, nothing. Bad lines do not spoil the others; the report tells them. A file without a single entry never
// replaces a list: that is a [*FieldError].
func Import(ctx context.Context, store Store, list uuid.UUID, r io.Reader, reading pattern.Reading, how Merging, version int64, by string) (List, Report, error) {
	entries, report, err := read(ctx, r, reading)
	if err == nil && how.Replace && report.Good+report.Changed == 0 {
		err = &FieldError{"file", "it holds no entry, and would empty the list; is it the right one?"}
	}
	if err != nil {
		return List{}, report, err
	}
	kept, merged, err := store.MergeEntries(ctx, list, entries, how, version, by)
	merged.Same += report.Same
	report.Merged = merged
	return kept, report, err
}

// read returns the entries of a list file, each once, and a report in which Same counts those that were named again.
func read(ctx context.Context, r io.Reader, reading pattern.Reading) ([]pattern.Entry, Report, error) {
	var report Report
	gathered := gatherer{at: map[string]int{}}
	err := pattern.ReadLines(r, reading, func(line pattern.Line) error {
		report.count(line)
		for _, entry := range line.Entries {
			if !gathered.add(entry) {
				report.Same++
			}
		}
		return ctx.Err()
	})
	return gathered.entries, report, err
}

func (r *Report) count(line pattern.Line) {
	r.Lines++
	switch line.Outcome() {
	case pattern.Blank:
		r.Blank++
	case pattern.NoteOnly:
		r.Notes++
	case pattern.Good:
		r.Good++
	case pattern.Changed:
		r.Changed++
		if len(r.ChangedLines) < MaxShown {
			r.ChangedLines = append(r.ChangedLines, line)
		}
	case pattern.Refused:
		r.Refused++
		if len(r.RefusedLines) < MaxShown {
			r.RefusedLines = append(r.RefusedLines, line)
		}
	}
}

// gatherer keeps each entry once, in the order of first naming.
type gatherer struct {
	entries []pattern.Entry
	at      map[string]int // key -> position in entries
}

// add reports whether the entry is new. What a later line says about a known entry is added to it.
func (g *gatherer) add(entry pattern.Entry) bool {
	key := entry.Key()
	if i, known := g.at[key]; known && key != "" {
		first := &g.entries[i]
		first.Off = first.Off || entry.Off
		if !entry.Until.IsZero() {
			first.Until = entry.Until
		}
		if entry.Note != "" {
			first.Note = entry.Note
		}
		return false
	}
	g.at[key] = len(g.entries)
	g.entries = append(g.entries, entry)
	return true
}
