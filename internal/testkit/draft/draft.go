// Package draft gives tests a store of their own, and fills its draft.
//
// From: the database server of a package's tests.
// To: a [Draft], and the editions of its states.
package draft

import (
	"log/slog"
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/require"

	"widelark/core/pattern"
	"widelark/core/policy"
	"widelark/internal/access"
	"widelark/internal/catalogue"
	"widelark/internal/edition"
	"widelark/internal/postgres"
	"widelark/internal/revision"
	"widelark/internal/testkit"
)

// Draft is the draft in a store that belongs to one test.
type Draft struct {
	Store *postgres.Store
	URL   string // the address of the database, for a second store on it
}

// New returns the draft of a new database: no lists, and the default policies.
func New(t testing.TB, server *testkit.Server) Draft {
	t.Helper()
	d := Draft{URL: server.Database(t)}
	d.Store = d.Reopen(t)
	return d
}

// Reopen returns another store on the database, as a second service has.
func (d Draft) Reopen(t testing.TB) *postgres.Store {
	t.Helper()
	store, err := postgres.Open(t.Context(), d.URL)
	require.NoError(t, err)
	t.Cleanup(store.Close)
	return store
}

// Editions returns new editions on a store, with a catalogue of their own.
func Editions(t testing.TB, store *postgres.Store, zone *time.Location, now func() time.Time) *edition.Editions {
	t.Helper()
	cache := catalogue.NewCache(store, slog.New(slog.DiscardHandler))
	require.NoError(t, cache.Load(t.Context()))
	return edition.New(store, cache, zone, now)
}

// List adds a list with entries.
func (d Draft) List(t testing.TB, name string, lines ...string) revision.List {
	t.Helper()
	list, err := d.Store.AddList(t.Context(), revision.ListEdit{Name: &name}, access.Setup)
	require.NoError(t, err)
	return d.Add(t, list, lines...)
}

// Add adds entries to a list.
func (d Draft) Add(t testing.TB, list revision.List, lines ...string) revision.List {
	t.Helper()
	list, _, err := revision.Import(t.Context(), d.Store, list.ID, strings.NewReader(strings.Join(lines, "\n")), pattern.Exact, revision.Merging{}, 0, access.Setup)
	require.NoError(t, err)
	return list
}

// Change carries out changes of objects, whose bodies must be good.
func (d Draft) Change(t testing.TB, changes ...revision.ObjectChange) []revision.Object {
	t.Helper()
	for _, c := range changes {
		if !c.Remove {
			require.NoError(t, c.Body.Check())
		}
	}
	made, err := d.Store.Change(t.Context(), changes, access.Setup)
	require.NoError(t, err)
	return made
}

// Fallback gives the fallback its rules; otherwise it allows.
func (d Draft) Fallback(t testing.TB, rules ...revision.RuleBody) {
	t.Helper()
	policies, err := d.Store.Objects(t.Context(), revision.KindPolicy)
	require.NoError(t, err)
	for _, o := range policies {
		if o.Name == "Fallback" {
			body := &revision.PolicyBody{Role: revision.RoleFallback, Rules: rules, Otherwise: policy.Allow}
			d.Change(t, revision.ObjectChange{Kind: o.Kind, ID: o.ID, Name: o.Name, Body: body})
		}
	}
}

// Ward adds the list "Betting", which the nurses may not open in the schedule "Office hours", and the nurse "kay". It returns their ids by name, and
// those of the group "Nurses" and the policy "Ward".
func (d Draft) Ward(t testing.TB) map[string]uuid.UUID {
	t.Helper()
	ids := map[string]uuid.UUID{"Betting": d.List(t, "Betting", "odds.example", "slots.example/shop").ID}
	office, err := d.Store.AddSchedule(t.Context(), revision.ScheduleEdit{Name: new("Office hours"), Zone: new("UTC"), Text: new("mon-fri 09:00-17:00")}, access.Setup)
	require.NoError(t, err)
	ids["Office hours"] = office.ID
	ids["Nurses"] = d.Change(t, revision.ObjectChange{Kind: revision.KindGroup, Name: "Nurses", Body: &revision.GroupBody{}})[0].ID
	nurses := []revision.Ref{{ID: ids["Nurses"]}}
	ids["kay"] = d.Change(t, revision.ObjectChange{Kind: revision.KindPerson, Name: "kay", Body: &revision.PersonBody{FullName: "Kay Moran", Groups: nurses}})[0].ID
	inBetting := &revision.Condition{Lists: []revision.Ref{{ID: ids["Betting"]}}}
	ids["Ward"] = d.Change(t, revision.ObjectChange{Kind: revision.KindPolicy, Name: "Ward", Body: &revision.PolicyBody{
		Groups: nurses, Otherwise: policy.Allow, Rules: []revision.RuleBody{
			{Name: "Not at work", Then: policy.Block, If: inBetting, When: &revision.WhenBody{Schedule: revision.Ref{ID: office.ID}}},
			{Name: "Safe", Then: policy.Allow, If: inBetting, With: &revision.ProvisosBody{SafeSearch: true}},
		},
	}})[0].ID
	return ids
}

// Blocked is a draft with one list, "Betting", which the fallback's rule "Never" blocks.
type Blocked struct {
	Draft
	Betting revision.List
}

// NewBlocked returns such a draft in a new database; the list is empty.
func NewBlocked(t testing.TB, server *testkit.Server) Blocked {
	t.Helper()
	d := New(t, server)
	b := Blocked{d, d.List(t, "Betting")}
	d.Fallback(t, revision.RuleBody{Name: "Never", If: &revision.Condition{Lists: Refs(b.Betting.ID)}, Then: policy.Block})
	return b
}

// Block adds entries to the blocked list.
func (b Blocked) Block(t testing.TB, lines ...string) {
	t.Helper()
	b.Add(t, b.Betting, lines...)
}

// Refs returns references to objects.
func Refs(ids ...uuid.UUID) []revision.Ref {
	all := []revision.Ref{}
	for _, id := range ids {
		all = append(all, revision.Ref{ID: id})
	}
	return all
}

// State returns the draft's present state.
func State(t testing.TB, editions *edition.Editions) *edition.State {
	t.Helper()
	state, err := editions.Draft(t.Context())
	require.NoError(t, err)
	return state
}
