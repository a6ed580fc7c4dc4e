package revision

import (
	"context"
	"errors"
	"fmt"
	"io"

	"github.com/google/uuid"

	"widelark/core/pattern"
	"widelark/internal/access"
)

// MaxShown is how many changed and how many refused lines a report shows one by one, unless more are asked for. All are counted. A report of so many
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
// error is returned, nothing. Bad lines do not stop the others; the report tells them. A file without a single entry never
// replaces a list: that is a [*FieldError].
func Import(ctx context.Context, store Store, list uuid.UUID, r io.Reader, reading pattern.Reading, how Merging, version int64, by access.Actor) (List, Report, error) {
	return ImportLines(ctx, store, list, func(each func(pattern.Line) error) error { return pattern.ReadLines(r, reading, each) }, how, version, by)
}

// ImportLines is [Import] for lines from wherever they come, one after the other.
func ImportLines(ctx context.Context, store Store, list uuid.UUID, lines func(each func(pattern.Line) error) error, how Merging, version int64, by access.Actor) (List, Report, error) {
	batch, report, err := Gather(ctx, lines, how.Shown)
	if err == nil && how.Replace && report.Good+report.Changed == 0 {
		err = &FieldError{"file", "it holds no entry, and would empty the list; is it the right one?"}
	}
	if err != nil {
		return List{}, report, err
	}
	kept, merged, err := store.MergeEntries(ctx, list, batch, how, version, by)
	merged.Same += report.Same
	report.Merged = merged
	return kept, report, err
}

// Gather returns the entries of a list file, each once, and a report in which Same counts those that were named again.
// The report shows so many changed and so many refused lines; see [Merging].
func Gather(ctx context.Context, lines func(each func(pattern.Line) error) error, shown int) (*Batch, Report, error) {
	if shown == 0 {
		shown = MaxShown
	}
	var report Report
	batch := &Batch{}
	take := func(line pattern.Line) error {
		report.count(line, shown)
		for _, entry := range line.Entries {
			isNew, err := batch.Add(entry)
			if err != nil {
				return err
			}
			if !isNew {
				report.Same++
			}
		}
		return nil
	}
	err := ahead(lines, func(some []pattern.Line) error {
		for _, line := range some {
			if err := take(line); err != nil {
				return err
			}
		}
		return ctx.Err()
	})
	return batch, report, err
}

// errEnough stops the reading of lines whose taker failed; it is never reported.
var errEnough = errors.New("enough")

// ahead reads lines in a goroutine of its own, so that they are read while others are taken, some at a time and in order. It ends
// when both have: with the taker's error or, where it has none, the reader's.
func ahead(lines func(each func(pattern.Line) error) error, take func([]pattern.Line) error) error {
	const some = 512
	full, stop := make(chan []pattern.Line, 4), make(chan struct{})
	read := make(chan error, 1)
	go func() {
		defer close(full)
		defer func() { // nobody else would catch it here, and the service would end
			if cause := recover(); cause != nil {
				read <- fmt.Errorf("bug: reading lines: %v", cause)
			}
		}()
		var held []pattern.Line
		hand := func() error {
			select {
			case full <- held:
				held = make([]pattern.Line, 0, some)
				return nil
			case <-stop:
				return errEnough
			}
		}
		err := lines(func(line pattern.Line) error {
			if held = append(held, line); len(held) < some {
				return nil
			}
			return hand()
		})
		if err == nil && len(held) > 0 {
			err = hand()
		}
		read <- err
	}()
	var failed error
	for part := range full {
		if failed != nil {
			continue // until the reader has noticed
		}
		if failed = take(part); failed != nil {
			close(stop)
		}
	}
	if err := <-read; failed == nil {
		return err
	}
	return failed
}

func (r *Report) count(line pattern.Line, shown int) {
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
		if len(r.ChangedLines) < shown {
			r.ChangedLines = append(r.ChangedLines, line)
		}
	case pattern.Refused:
		r.Refused++
		if len(r.RefusedLines) < shown {
			r.RefusedLines = append(r.RefusedLines, line)
		}
	}
}
