package subscription_test

import (
	"bytes"
	"compress/gzip"
	"context"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"os"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widelark/core/pattern"
	"widelark/internal/access"
	"widelark/internal/catalogue"
	"widelark/internal/directories"
	"widelark/internal/postgres"
	"widelark/internal/revision"
	"widelark/internal/subscription"
	"widelark/internal/testkit"
)

var server *testkit.Server

func TestMain(m *testing.M) { os.Exit(testkit.RunWithServer(m, &server)) }

// house is a store with one list that is pulled from a server whose answer a test sets.
type house struct {
	store  *postgres.Store
	puller *subscription.Puller
	source revision.Source
	answer atomic.Pointer[http.HandlerFunc] // set by answers
	edits  int
	now    time.Time
}

func newHouse(t *testing.T, change func(*revision.Source)) *house {
	t.Helper()
	h := &house{now: time.Now().UTC().Truncate(time.Second)}
	var err error
	h.store, err = postgres.Open(t.Context(), server.Database(t))
	require.NoError(t, err)
	t.Cleanup(h.store.Close)
	web := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { (*h.answer.Load())(w, r) }))
	t.Cleanup(web.Close)
	name := "Partner"
	list, err := h.store.AddList(t.Context(), revision.ListEdit{Name: &name}, access.Setup)
	require.NoError(t, err)
	source := revision.Source{ListID: list.ID, URL: web.URL, Format: "lines", MaxShrink: 50}
	if change != nil {
		change(&source)
	}
	source, err = source.Checked()
	require.NoError(t, err)
	h.source, err = h.store.SetSource(t.Context(), source, access.Setup)
	require.NoError(t, err)
	h.puller = &subscription.Puller{Client: http.DefaultClient, Store: h.store, Now: func() time.Time { return h.now }, Pulled: func(context.Context) { h.edits++ }}
	return h
}

// answers sets the server's answer from now on.
func (h *house) answers(with http.HandlerFunc) { h.answer.Store(&with) }

// pull pulls once and returns the stored result.
func (h *house) pull(t *testing.T) revision.Source {
	t.Helper()
	pulled, err := h.puller.Pull(t.Context(), h.source)
	require.NoError(t, err)
	h.source, err = h.store.Source(t.Context(), h.source.ListID)
	require.NoError(t, err)
	assert.Equal(t, pulled.Told, h.source.Told)
	return h.source
}

func (h *house) lines(t *testing.T) (lines []string) {
	t.Helper()
	require.NoError(t, h.store.EachEntry(t.Context(), h.source.ListID, func(_ int64, e pattern.Entry) error {
		lines = append(lines, e.String())
		return nil
	}))
	return lines
}

func text(body string, header ...string) func(http.ResponseWriter, *http.Request) {
	return func(w http.ResponseWriter, _ *http.Request) {
		for i := 0; i+1 < len(header); i += 2 {
			w.Header().Set(header[i], header[i+1])
		}
		_, _ = w.Write([]byte(body))
	}
}

func TestPull(t *testing.T) {
	t.Parallel()
	h := newHouse(t, func(s *revision.Source) { s.MaxShrink = 70 })
	h.answers(text("# theirs\na.example\nb.example # why\nhttps://c.example/\n", "ETag", `"1"`))
	got := h.pull(t)
	assert.Equal(t, revision.PullChanged, got.Result)
	assert.Equal(t, "3 entries came, 0 went, 0 stay.", got.Told)
	assert.Equal(t, []string{"# theirs", "a.example", "b.example # why", "c.example"}, h.lines(t))
	assert.Equal(t, h.now.Add(24*time.Hour), got.NextAt.UTC())
	assert.Equal(t, 1, h.edits)

	// Asked again, the source may say that nothing is new: by its tag, or with the same file.
	h.answers(func(w http.ResponseWriter, r *http.Request) {
		assert.Equal(t, `"1"`, r.Header.Get("If-None-Match"))
		w.WriteHeader(http.StatusNotModified)
	})
	assert.Equal(t, revision.PullUnchanged, h.pull(t).Result)
	h.answers(text("c.example\na.example\nb.example # why\n", "Last-Modified", "Mon, 23 Nov 2026 05:00:00 GMT"))
	got = h.pull(t)
	assert.Equal(t, revision.PullUnchanged, got.Result)
	assert.Equal(t, "The source says the same as before.", got.Told)
	assert.Equal(t, 1, h.edits)
	h.answers(func(w http.ResponseWriter, r *http.Request) {
		assert.Equal(t, "Mon, 23 Nov 2026 05:00:00 GMT", r.Header.Get("If-Modified-Since"))
		w.WriteHeader(http.StatusNotModified)
	})
	h.pull(t)

	// Packed, with lines that are not entries.
	var packed bytes.Buffer
	w := gzip.NewWriter(&packed)
	_, _ = w.Write([]byte("a.example\nd.example\nbad..example\n"))
	_ = w.Close()
	h.answers(text(packed.String()))
	got = h.pull(t)
	assert.Equal(t, "1 entry came, 2 went, 1 stay. 1 line was no entry and was passed over.", got.Told)
	assert.Equal(t, []int64{1, 2, 1}, []int64{got.Added, got.Removed, got.Refused})
	history, err := h.store.History(t.Context(), h.source.ListID, 0, 1)
	require.NoError(t, err)
	assert.Equal(t, revision.ChangePulled, history[0].What)
	assert.Equal(t, "subscription", history[0].By)
}

// Whatever the source does, the last good state stays, and the next pull comes soon.
func TestGuards(t *testing.T) {
	t.Parallel()
	h := newHouse(t, func(s *revision.Source) { s.MaxBytes = 1000 })
	h.answers(text("a.example\nb.example\nc.example\nd.example\n"))
	h.pull(t)
	before := h.lines(t)
	var bomb bytes.Buffer
	w := gzip.NewWriter(&bomb)
	_, _ = w.Write(bytes.Repeat([]byte("x.example\n"), 10_000))
	_ = w.Close()
	var packed bytes.Buffer
	w = gzip.NewWriter(&packed)
	_, _ = w.Write([]byte("a.example\nb.example\nc.example\n"))
	_ = w.Close()
	short := packed.String()
	for name, row := range map[string]struct {
		answer func(http.ResponseWriter, *http.Request)
		result revision.PullResult
		told   string
	}{
		"shrinks":  {text("a.example\n"), revision.PullRefused, "It would take away 3 of 4 entries, more than 50 per cent"},
		"empty":    {text("# nothing\n"), revision.PullRefused, "holds no entry"},
		"no list":  {text("<html><body>Sign in, please</body></html>\n"), revision.PullRefused, "holds no entry"},
		"declared": {text(strings.Repeat("x.example\n", 200), "Content-Length", "2000"), revision.PullRefused, "has 2000 bytes, more than the 1000"},
		"too long": {func(w http.ResponseWriter, r *http.Request) {
			w.(http.Flusher).Flush()
			text(strings.Repeat("x.example\n", 200))(w, r)
		}, revision.PullRefused, "larger than the 1000 bytes"},
		"a bomb":     {text(bomb.String()), revision.PullRefused, "larger than the 1000 bytes"},
		"half":       {text(short[:len(short)/2]), revision.PullRefused, "damaged, or not whole"},
		"gone":       {func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(http.StatusGone) }, revision.PullFailed, "answers 410"},
		"breaks off": {func(http.ResponseWriter, *http.Request) { panic(http.ErrAbortHandler) }, revision.PullFailed, "does not answer"},
		"in the midst": {func(w http.ResponseWriter, _ *http.Request) {
			w.Header().Set("Content-Length", "900")
			_, _ = w.Write([]byte("a.example\n"))
		}, revision.PullFailed, "broke off"},
	} {
		h.answers(row.answer)
		got := h.pull(t)
		assert.Equal(t, row.result, got.Result, name)
		assert.Contains(t, got.Told, row.told, name)
		assert.Equal(t, before, h.lines(t), name)
		assert.Equal(t, h.now.Add(time.Hour), got.NextAt.UTC(), name)
		assert.NotNil(t, got.PulledAt, "%s: when the last good state came is still known", name)
	}
	csv := newHouse(t, func(s *revision.Source) { s.Format, s.EntryField = "csv", "site" })
	csv.answers(text("no,site\n1,a.example\n"))
	csv.pull(t)
	assert.Equal(t, []string{"a.example"}, csv.lines(t))
	csv.answers(text("no,host\n1,b.example\n"))
	assert.Contains(t, csv.pull(t).Told, `The file has no column "site"`)
}

func TestCheckedSources(t *testing.T) {
	t.Parallel()
	for want, source := range map[string]revision.Source{
		"url":          {URL: "file:///etc/passwd"},
		"maxBytes":     {URL: "https://a.example", MaxBytes: -1},
		"maxShrink":    {URL: "https://a.example", MaxShrink: 101},
		"everyMinutes": {URL: "https://a.example", Every: time.Second},
		"":             {URL: "https://a.example/x.txt"},
	} {
		checked, err := source.Checked()
		if want == "" {
			require.NoError(t, err)
			assert.Equal(t, 24*time.Hour, checked.Every)
			continue
		}
		var field *revision.FieldError
		require.ErrorAs(t, err, &field)
		assert.Equal(t, want, field.Field)
	}
}

// Two services on one database pull a source once, and do not pull a paused source.
func TestRunnersShareTheWork(t *testing.T) {
	t.Parallel()
	var asked atomic.Int64
	h := newHouse(t, nil)
	h.answers(func(w http.ResponseWriter, r *http.Request) {
		asked.Add(1)
		text("a.example\n")(w, r)
	})
	paused := newHouse(t, func(s *revision.Source) { s.Paused = true })
	paused.answers(func(http.ResponseWriter, *http.Request) { t.Error("a source that is paused was asked") })
	for _, house := range []*house{h, paused} {
		house.now = time.Now().Add(time.Minute)
		for range 2 {
			house.puller.Pulled = nil
			runner, err := subscription.Start(t.Context(), house.store.Pool(), house.puller, &catalogue.Puller{Client: http.DefaultClient, Store: house.store, Now: time.Now}, &directories.Syncer{Store: house.store, Now: time.Now}, slog.New(slog.DiscardHandler))
			require.NoError(t, err)
			t.Cleanup(func() {
				ctx, cancel := context.WithTimeout(context.Background(), 10*time.Second)
				defer cancel()
				assert.NoError(t, runner.Stop(ctx))
			})
		}
	}
	require.Eventually(t, func() bool { return asked.Load() > 0 }, testkit.Patience, testkit.Look)
	require.Eventually(t, func() bool {
		source, err := h.store.Source(t.Context(), h.source.ListID)
		return err == nil && source.Result == revision.PullChanged
	}, testkit.Patience, testkit.Look)
	due, err := h.store.DueSources(t.Context(), time.Now())
	require.NoError(t, err)
	assert.Empty(t, due)
	assert.EqualValues(t, 1, asked.Load())
}

// A pull and concurrent edits by hand are each complete.
func TestPullsBesideEdits(t *testing.T) {
	t.Parallel()
	h := newHouse(t, func(s *revision.Source) { s.MaxShrink = 100 })
	h.answers(text("a.example\nb.example\n"))
	h.puller.Pulled = nil
	var all sync.WaitGroup
	for i := range 8 {
		all.Go(func() {
			if i%2 == 0 {
				_, err := h.puller.Pull(t.Context(), h.source)
				assert.NoError(t, err)
				return
			}
			_, _, err := h.store.MergeEntries(t.Context(), h.source.ListID, revision.NewBatch(pattern.MustParse("c.example")), revision.Merging{}, 0, access.Setup)
			assert.NoError(t, err)
		})
	}
	all.Wait()
	list, err := h.store.List(t.Context(), h.source.ListID)
	require.NoError(t, err)
	assert.EqualValues(t, len(h.lines(t)), list.EntryCount)
	assert.Subset(t, h.lines(t), []string{"a.example", "b.example"})
}
