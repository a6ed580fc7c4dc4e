package check_test

import (
	"fmt"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"widelark/core/pattern"
	"widelark/internal/catalogue"
	"widelark/internal/check"
	"widelark/internal/postgres"
	"widelark/internal/revision"
	"widelark/internal/testkit"
	"widelark/internal/trial"
	"widelark/internal/upkeep"
)

var server *testkit.Server

func TestMain(m *testing.M) { os.Exit(testkit.RunWithServer(m, &server)) }

// house is a service's parts without the API.
type house struct {
	store *postgres.Store
	desk  *check.Desk
}

func newHouse(t testing.TB) house {
	t.Helper()
	store, err := postgres.Open(t.Context(), server.Database(t))
	require.NoError(t, err)
	t.Cleanup(store.Close)
	shelf := catalogue.NewShelf(store, nil)
	require.NoError(t, shelf.Load(t.Context()))
	trials := trial.NewDesk(store, shelf, time.UTC, time.Now)
	return house{store, &check.Desk{Store: store, Trials: trials, Lists: store, Categories: store, Traffic: upkeep.NewKeeper(store, store, trials), Now: time.Now}}
}

func (h house) list(t testing.TB, name string, lines ...string) revision.List {
	t.Helper()
	list, err := h.store.AddList(t.Context(), revision.ListEdit{Name: &name}, "edda")
	require.NoError(t, err)
	list, _, err = revision.Import(t.Context(), h.store, list.ID, strings.NewReader(strings.Join(lines, "\n")), pattern.Exact, revision.Merging{}, 0, "edda")
	require.NoError(t, err)
	return list
}

// From an edit of a list of a million entries until the review and what is expected are up to date.
func BenchmarkReview(b *testing.B) {
	for _, size := range []int{100_000, 1_000_000} {
		b.Run(fmt.Sprint(size), func(b *testing.B) {
			h := newHouse(b)
			lines := make([]string, size)
			for i := range lines {
				lines[i] = fmt.Sprintf("site-%d.example", i*7919%size)
			}
			list := h.list(b, "Large", lines...)
			_, err := h.desk.Report(b.Context())
			require.NoError(b, err)
			b.ResetTimer()
			for i := 0; b.Loop(); i++ {
				_, _, err := h.store.MergeEntries(b.Context(), list.ID, revision.NewBatch(pattern.MustParse(fmt.Sprintf("new-%d.example", i))), revision.Merging{}, 0, "edda")
				require.NoError(b, err)
				_, err = h.desk.Report(b.Context())
				require.NoError(b, err)
			}
		})
	}
}
