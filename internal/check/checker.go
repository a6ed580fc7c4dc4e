package check

import (
	"context"
	"fmt"
	"log/slog"
	"runtime/debug"
	"sync"
	"sync/atomic"
	"time"

	"github.com/google/uuid"

	"widelark/core/review"
	"widelark/internal/access"
	"widelark/internal/edition"
	"widelark/internal/journal"
	"widelark/internal/journal/usage"
	"widelark/internal/revision"
	"widelark/internal/turn"
)

// Store tells the checker which versions there are.
type Store interface {
	DraftVersion(ctx context.Context) (revision.Now, error)
}

// Checker keeps the report on the draft, and makes it again when the draft has changed. It is safe for concurrent use.
type Checker struct {
	Store      Store
	Editions   *edition.Editions
	Lists      revision.Store
	Categories revision.CategoryStore
	Traffic    Recorded
	Publishing revision.PublishStore
	Journal    journal.Reader
	Usage      usage.Store
	Now        func() time.Time
	Log        *slog.Logger

	beside sync.WaitGroup // what Prepare began
	closed atomic.Bool

	mu     turn.Lock // held while a report is made, so that it is made once
	last   *Report
	looked map[uuid.UUID]looked

	recorded   int64     // requests that companions were found in
	foundAt    time.Time // when that was
	companions []review.Companion
}

// Report is the results of all checks of the draft at one version.
type Report struct {
	DraftVersion int64
	Catalogue    int64 // the version of the packs
	At           time.Time
	Expected     []Expected
	Findings     []review.Finding // the gravest first
	Took         time.Duration
	directories  int64 // see [revision.Now]
}

// Failing counts the expectations that do not hold.
func (r *Report) Failing() (failing int) {
	for _, e := range r.Expected {
		if !e.Passed {
			failing++
		}
	}
	return failing
}

// Prepare compiles and checks the draft in the background, so that the trial after an edit does not wait.
func (d *Checker) Prepare(ctx context.Context) {
	if d.closed.Load() {
		return
	}
	d.beside.Go(func() {
		defer func() {
			if cause := recover(); cause != nil { // a bug: whoever asks meets it again
				d.Log.ErrorContext(ctx, "checking the draft ahead failed badly", "cause", cause, "stack", string(debug.Stack()))
			}
		}()
		ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), time.Minute)
		defer cancel()
		if err := d.Editions.Prepare(ctx); err != nil {
			d.Log.WarnContext(ctx, "the draft could not be compiled ahead; the next trial will do it", "error", err)
			return
		}
		if _, err := d.Report(ctx); err != nil {
			d.Log.WarnContext(ctx, "the draft could not be checked ahead; whoever looks at it will wait", "error", err)
		}
	})
}

// Close waits for what Prepare started and prevents further starts.
func (d *Checker) Close() {
	d.closed.Store(true)
	d.beside.Wait()
}

// freshness is how long a report is valid without edits: expectations may speak of the present moment.
const freshness = time.Minute

// Report returns the report on the draft as it is now, and waits for it if it has to be made.
func (d *Checker) Report(ctx context.Context) (*Report, error) {
	if err := d.mu.Lock(ctx); err != nil {
		return nil, err
	}
	defer d.mu.Unlock()
	now, err := d.Store.DraftVersion(ctx)
	if err != nil {
		return nil, err
	}
	begin := d.Now()
	if d.last != nil && d.last.DraftVersion >= now.Draft && d.last.Catalogue == now.Catalogue && d.last.directories == now.Directories && begin.Sub(d.last.At) < freshness {
		return d.last, nil
	}
	h, err := d.Editions.Draft(ctx)
	if err != nil {
		return nil, err
	}
	report := &Report{DraftVersion: h.DraftVersion, Catalogue: now.Catalogue, directories: now.Directories, At: begin, Expected: Expectations(h)}
	if report.Findings, err = d.review(ctx, h); err != nil {
		return nil, err
	}
	report.Took = d.Now().Sub(begin)
	d.last = report
	return report, nil
}

// ReportAt tries the expectations of an earlier version on that version.
func (d *Checker) ReportAt(ctx context.Context, version int64) (*Report, error) {
	h, err := d.Editions.At(ctx, version)
	if err != nil {
		return nil, err
	}
	return &Report{DraftVersion: version, At: d.Now(), Expected: Expectations(h)}, nil
}

// PublishDue publishes what was planned for now or earlier. Expectations are tried again: since planning, time has passed and
// the catalogue may have changed.
func (d *Checker) PublishDue(ctx context.Context) ([]revision.Revision, error) {
	return d.Publishing.PublishDue(ctx, d.Now(), func(p revision.Planned) (revision.Publishing, error) {
		report, err := d.ReportAt(ctx, p.Version)
		if err != nil { // of our own: it is tried again
			return revision.Publishing{}, err
		}
		failing := report.Failing()
		if failing > 0 && p.Forced == "" {
			return revision.Publishing{}, &revision.NotDueError{Why: fmt.Sprintf("%d of %d expectations do not hold any more", failing, len(report.Expected))}
		}
		return revision.Publishing{Version: p.Version, Note: p.Note, Forced: p.Forced, Failed: int64(failing), Asked: int64(len(report.Expected))}, nil
	}, access.Timetable)
}

// KeepPublishing publishes what is due, as it falls due, until the context ends.
func (d *Checker) KeepPublishing(ctx context.Context, log *slog.Logger) {
	const often = 2 * time.Second
	tick := time.NewTicker(often)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
		made, err := d.PublishDue(ctx)
		if err != nil && ctx.Err() == nil {
			log.WarnContext(ctx, "what is due could not be published; it is tried again", "error", err)
		}
		for _, r := range made {
			log.InfoContext(ctx, "published as planned", "revision", r.Number, "version", r.Version)
		}
	}
}
