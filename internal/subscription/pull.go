// Package subscription keeps lists up to date that are maintained elsewhere: it pulls their files on a timetable.
//
// From: [revision.Source].
// To: the list, replaced in one transaction; or, if a guard refuses, the last good state and the reason.
package subscription

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"time"

	"widelark/core/pattern"
	"widelark/internal/access"
	"widelark/internal/listfile"
	"widelark/internal/revision"
)

// Store is what pulling needs.
type Store interface {
	revision.Store
	revision.SourceStore
}

// Puller pulls sources. It is safe for concurrent use.
type Puller struct {
	Store  Store
	Client *http.Client // see package outbound
	Now    func() time.Time
	Pulled func(context.Context) // called after a list changed; nil for nothing
}

// errTooLarge is the error of a reader whose source sends more than it may.
var errTooLarge = errors.New("larger than the source may be")

// Pull fetches a source now and records the result. The error is for failures of the service; those of the source are in the
// result.
func (p *Puller) Pull(ctx context.Context, s revision.Source) (revision.Source, error) {
	now := p.Now()
	s.TriedAt, s.NextAt = &now, now.Add(s.Every)
	if err := p.pull(ctx, &s, now); err != nil {
		return s, err
	}
	return s, p.Store.KeepPull(ctx, s, access.Subscription)
}

func (p *Puller) pull(ctx context.Context, s *revision.Source, now time.Time) error {
	fail := func(result revision.PullResult, format string, args ...any) error {
		s.Result, s.Told = result, fmt.Sprintf(format, args...)
		if s.NextAt.Sub(now) > time.Hour { // soon again, but not at once
			s.NextAt = now.Add(time.Hour)
		}
		return nil
	}
	before, err := p.Store.List(ctx, s.ListID)
	if err != nil {
		return err
	}
	request, err := http.NewRequestWithContext(ctx, http.MethodGet, s.URL, nil)
	if err != nil {
		return fail(revision.PullFailed, "The address cannot be asked: %s.", err)
	}
	request.Header.Set("User-Agent", "widelark")
	request.Header.Set("Accept-Encoding", "gzip, zstd, identity;q=0.5")
	if s.ETag != "" {
		request.Header.Set("If-None-Match", s.ETag)
	} else if s.Modified != "" {
		request.Header.Set("If-Modified-Since", s.Modified)
	}
	response, err := p.Client.Do(request)
	if err != nil {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		return fail(revision.PullFailed, "The source does not answer: %s.", err)
	}
	defer response.Body.Close()
	switch {
	case response.StatusCode == http.StatusNotModified:
		s.Result, s.Told, s.PulledAt, s.Added, s.Removed, s.Refused = revision.PullUnchanged, "The source has nothing new.", &now, 0, 0, 0
		return nil
	case response.StatusCode != http.StatusOK:
		return fail(revision.PullFailed, "The source answers %s.", response.Status)
	case response.ContentLength > s.MaxBytes:
		return fail(revision.PullRefused, "The file has %d bytes, more than the %d that are allowed. The last good state stays.", response.ContentLength, s.MaxBytes)
	}
	packed := &bounded{r: response.Body, left: s.MaxBytes}
	file, err := listfile.Unpacked(packed)
	if err != nil {
		return fail(revision.PullRefused, "%s. The last good state stays.", sentence(err))
	}
	defer file.Close()
	unpacked := &bounded{r: file, left: s.MaxBytes}
	options := listfile.Options{Format: listfile.Format(s.Format), Reading: pattern.Mending, Entry: s.EntryField}
	lines := func(each func(pattern.Line) error) error { return listfile.Read(unpacked, options, each) }
	how := revision.Merging{Replace: true, Preview: true, What: revision.ChangePulled, Detail: "from " + s.URL}
	batch, report, err := revision.Gather(ctx, lines, -1)
	s.Bytes = s.MaxBytes - packed.left
	var wrong *listfile.Error
	var field *revision.FieldError
	switch {
	case errors.Is(err, errTooLarge):
		return fail(revision.PullRefused, "The file is larger than the %d bytes that are allowed. The last good state stays.", s.MaxBytes)
	case errors.As(err, &wrong), errors.As(err, &field):
		return fail(revision.PullRefused, "%s. The last good state stays.", sentence(err))
	case err != nil && ctx.Err() != nil:
		return ctx.Err()
	case err != nil:
		return fail(revision.PullFailed, "The file broke off: %s. The last good state stays.", err)
	case batch.Count == 0:
		return fail(revision.PullRefused, "The file holds no entry. The last good state stays.")
	}
	_, preview, err := p.Store.MergeEntries(ctx, s.ListID, batch, how, 0, access.Subscription)
	if err != nil {
		return err
	}
	if before.EntryCount > 0 && preview.Removed*100 > before.EntryCount*int64(s.MaxShrink) {
		return fail(revision.PullRefused, "It would take away %d of %d entries, more than %d per cent. The last good state stays; pull with force if that is right.",
			preview.Removed, before.EntryCount, s.MaxShrink)
	}
	merged := preview
	s.Result, s.Told = revision.PullUnchanged, "The source says the same as before."
	if preview.Added+preview.Updated+preview.Removed+preview.Notes > 0 {
		how.Preview = false
		if _, merged, err = p.Store.MergeEntries(ctx, s.ListID, batch, how, 0, access.Subscription); err != nil {
			return err
		}
		s.Result, s.Told = revision.PullChanged, fmt.Sprintf("%s came, %d went, %d stay.", plural(merged.Added, "entry", "entries"), merged.Removed, merged.Same+merged.Updated)
		if p.Pulled != nil {
			p.Pulled(ctx)
		}
	}
	if report.Refused > 0 {
		s.Told += " " + plural(int64(report.Refused), "line was no entry and was", "lines were no entries and were") + " passed over."
	}
	s.PulledAt, s.Added, s.Removed, s.Refused = &now, merged.Added, merged.Removed, int64(report.Refused)
	s.ETag, s.Modified = response.Header.Get("ETag"), response.Header.Get("Last-Modified")
	return nil
}

func plural(n int64, one, many string) string {
	if n == 1 {
		return "1 " + one
	}
	return fmt.Sprintf("%d %s", n, many)
}

// sentence capitalises an error.
func sentence(err error) string {
	text := err.Error()
	return string(text[0]&^0x20) + text[1:]
}

// bounded fails with errTooLarge if a reader exceeds its limit.
type bounded struct {
	r    io.Reader
	left int64
}

func (b *bounded) Read(p []byte) (int, error) {
	if b.left <= 0 {
		var one [1]byte
		if n, err := b.r.Read(one[:]); n == 0 {
			return 0, err
		}
		return 0, errTooLarge
	}
	n, err := b.r.Read(p[:min(int64(len(p)), b.left)])
	b.left -= int64(n)
	return n, err
}
