package catalogue

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"sync"
	"time"

	"github.com/google/uuid"

	"widelark/internal/access"
	"widelark/internal/revision"
	"widelark/packfile"
)

// Puller fetches packs from their sources. It is safe for concurrent use.
type Puller struct {
	Store   Store
	Cache   *Cache
	Now     func() time.Time
	running sync.Map     // uuid.UUID -> *Progress
	Client  *http.Client // see package outbound
}

// Progress counts how much of a file has been read.
type Progress struct {
	mu    sync.Mutex
	stage string
	bytes int64
	of    int64
	sites int64
}

// Told is a [Progress] at one moment.
type Told struct {
	Stage     string // what is being done, as "reading"
	Bytes, Of int64  // Of is 0 where the length is not known
	Sites     int64  // read so far
}

// Progress returns the progress of the pack's pull or import; false if none is running here.
func (p *Puller) Progress(id uuid.UUID) (Told, bool) {
	running, ok := p.running.Load(id)
	if !ok {
		return Told{}, false
	}
	at := running.(*Progress)
	at.mu.Lock()
	defer at.mu.Unlock()
	return Told{at.stage, at.bytes, at.of, at.sites}, true
}

func (at *Progress) set(change func(*Progress)) {
	at.mu.Lock()
	change(at)
	at.mu.Unlock()
}

// deltaKind is the name of the delta format between client and server (RFC 3229, section 10.5).
const deltaKind = "widelark-pack"

// Pull fetches a pack's file and puts it into the catalogue, and keeps how it went. What the source does wrong is recorded with the pack and
// is not an error; the last good state stays. With force, the pack may shrink as much as the file says, and is asked for whole.
func (p *Puller) Pull(ctx context.Context, pack Pack, force bool) (Pack, error) {
	now := p.Now()
	pack.TriedAt, pack.NextAt = &now, now.Add(pack.Every)
	asked := pack
	if force {
		asked.ETag, asked.MaxShrink = "", 100
	}
	if err := p.pull(ctx, &asked, now); err != nil {
		return pack, err
	}
	asked.MaxShrink = pack.MaxShrink
	if err := p.Store.KeepPackPull(ctx, asked, access.Subscription); err != nil {
		return pack, err
	}
	return p.Store.Pack(ctx, pack.ID)
}

func (p *Puller) pull(ctx context.Context, pack *Pack, now time.Time) error {
	fail := func(result revision.PullResult, format string, args ...any) error {
		pack.Result, pack.Told = result, fmt.Sprintf(format, args...)
		if pack.NextAt.Sub(now) > time.Hour { // soon again, but not at once
			pack.NextAt = now.Add(time.Hour)
		}
		return nil
	}
	request, err := http.NewRequestWithContext(ctx, http.MethodGet, pack.URL, nil)
	if err != nil {
		return fail(revision.PullFailed, "The address cannot be asked: %s.", err)
	}
	request.Header.Set("User-Agent", "widelark")
	if pack.ETag != "" {
		request.Header.Set("If-None-Match", pack.ETag)
		request.Header.Set("A-IM", deltaKind)
	}
	response, err := p.Client.Do(request)
	if err != nil {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		return fail(revision.PullFailed, "The source does not answer: %s.", err)
	}
	defer response.Body.Close()
	isDelta := response.StatusCode == http.StatusIMUsed && response.Header.Get("IM") == deltaKind
	switch {
	case response.StatusCode == http.StatusNotModified:
		pack.Result, pack.Told, pack.PulledAt = revision.PullUnchanged, "The source has nothing new.", &now
		return nil
	case response.StatusCode != http.StatusOK && !isDelta:
		return fail(revision.PullFailed, "The source answers %s.", response.Status)
	case response.ContentLength > pack.MaxBytes:
		return fail(revision.PullRefused, "The file has %d bytes, more than the %d that are allowed. The last good state stays.", response.ContentLength, pack.MaxBytes)
	}
	after, bytes, err := p.take(ctx, *pack, response.Body, max(response.ContentLength, 0), access.Subscription)
	pack.Bytes = bytes
	var wrong *packfile.Error
	var refused *RefusedError
	var broken *brokenError
	switch {
	case isDelta && (errors.As(err, &wrong) || errors.As(err, &refused)):
		pack.ETag = "" // the whole may do where the difference does not
		return p.pull(ctx, pack, now)
	case errors.Is(err, errTooLarge):
		return fail(revision.PullRefused, "The file is larger than the %d bytes that are allowed. The last good state stays.", pack.MaxBytes)
	case errors.Is(err, ErrNothingNew):
		pack.Result, pack.Told = revision.PullUnchanged, "The source has no later version than the one that is here."
	case errors.As(err, &wrong):
		return fail(revision.PullRefused, "The file is refused: %s. The last good state stays.", wrong)
	case errors.As(err, &refused):
		return fail(revision.PullRefused, "%s. The last good state stays.", refused)
	case err != nil && ctx.Err() != nil:
		return ctx.Err()
	case errors.As(err, &broken):
		return fail(revision.PullFailed, "The file broke off: %s. The last good state stays.", broken.cause)
	case err != nil:
		return err
	default:
		pack.Result, pack.Told = revision.PullChanged, resultText(after, isDelta)
	}
	pack.PulledAt, pack.ETag = &now, response.Header.Get("ETag")
	return nil
}

// resultText returns the sentence about the result of a file.
func resultText(after Pack, isDelta bool) string {
	s := after.Latest
	text := fmt.Sprintf("Version %d: %d sites came, %d moved, %d went.", s.Version, s.Added, s.Moved, s.Gone)
	if isDelta {
		text = "By what changed: v" + text[1:]
	}
	if after.Waiting != nil {
		text += " It waits until somebody accepts it."
	}
	return text
}

// Import takes a pack's file that was handed over by a person. It is refused for the same reasons as one that is pulled: see [Store.Take].
func (p *Puller) Import(ctx context.Context, pack Pack, file io.Reader, length int64, force bool, by access.Actor) (Pack, error) {
	if force {
		pack.MaxShrink = 100
	}
	after, _, err := p.take(ctx, pack, file, length, by)
	return after, err
}

// brokenError is the error of a file that could not be read to its end.
type brokenError struct{ cause error }

func (e *brokenError) Error() string { return "the file broke off: " + e.cause.Error() }
func (e *brokenError) Unwrap() error { return e.cause }

var errTooLarge = errors.New("larger than the file may be")

// take reads a file into the store, and loads the new state into memory.
func (p *Puller) take(ctx context.Context, pack Pack, file io.Reader, length int64, by access.Actor) (after Pack, bytes int64, err error) {
	at := &Progress{stage: "reading", of: length}
	if _, busy := p.running.LoadOrStore(pack.ID, at); busy {
		return pack, 0, &RefusedError{"A file of this pack is being read already"}
	}
	defer p.running.Delete(pack.ID)
	keys, err := p.Store.Keys(ctx)
	if err != nil {
		return pack, 0, err
	}
	trusted := make([]string, len(keys))
	for i, key := range keys {
		trusted[i] = key.Key
	}
	counted := &bounded{r: file, most: pack.MaxBytes, at: at}
	opened, err := packfile.Open(counted, trusted)
	if err == nil {
		defer opened.Close()
		after, err = p.Store.Take(ctx, pack.ID, opened, Taking{By: by, MaxShrink: pack.MaxShrink, Hold: pack.Hold, Sites: func(n int64) {
			at.set(func(at *Progress) {
				if at.sites = n; n >= opened.Sites-10_000 {
					at.stage = "storing"
				}
			})
		}})
	}
	if err != nil {
		if counted.err != nil { // what was read is not whole, and the reason is that
			err = &brokenError{counted.err}
		}
		return pack, counted.n, err
	}
	at.set(func(at *Progress) { at.stage = "loading" })
	return after, counted.n, p.Cache.Load(ctx)
}

// bounded limits how much is read, and counts it.
type bounded struct {
	r    io.Reader
	most int64
	n    int64
	err  error // what ended the reading, other than the end
	at   *Progress
}

func (b *bounded) Read(p []byte) (int, error) {
	n, err := b.r.Read(p)
	b.n += int64(n)
	b.at.set(func(at *Progress) { at.bytes = b.n })
	if b.n > b.most {
		n, err = 0, errTooLarge
	}
	if err != nil && !errors.Is(err, io.EOF) {
		b.err = err
	}
	return n, err
}
