package postgres_test

import (
	"context"
	"reflect"
	"regexp"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widelark/internal/access"
	"widelark/internal/account"
	"widelark/internal/audit"
	"widelark/internal/catalogue"
	"widelark/internal/directories"
	"widelark/internal/postgres"
	"widelark/internal/revision"
)

// everyday is the roles of who edits, publishes and helps, and owns nothing.
var everyday = []access.Held{{Role: access.Editor}, {Role: access.Publisher}, {Role: access.HelpDesk}, {Role: access.Auditor}}

// person returns the actor of a new account, which is not an owner unless it is the first.
func person(t *testing.T, store *postgres.Store, name string) access.Actor {
	t.Helper()
	made, err := store.AddAccount(t.Context(), account.Account{Name: name, Roles: everyday}, "none", access.Setup)
	require.NoError(t, err)
	return made.Actor()
}

// changes holds the names of the methods that change something.
var changes = regexp.MustCompile(`^(Accept$|Adopt|AcceptFinding$|Add|Apply|Change$|Copy|Distrust|Edit|End|Keep|Merge|Plan$|Publish|Put|Refuse|Remove|Restore|Rewrite|Set|Take|Trust|Unaccept|Undo|Unplan)`)

// Every method that changes something takes an actor, and refuses an unknown one: the zero actor, and a removed account.
func TestActorsAreKnown(t *testing.T) {
	t.Parallel()
	store, ctx := open(t), t.Context()
	list := newList(t, store, "Betting", "odds.example")
	person(t, store, "edda")
	gone := person(t, store, "rowan")
	require.NoError(t, store.RemoveAccount(ctx, gone.Account(), access.Setup))
	_, err := store.Plan(ctx, revision.Planned{Due: time.Now().Add(-time.Hour), Version: 1, Note: "due"}, access.Setup)
	require.NoError(t, err)
	before, err := store.DraftVersion(ctx)
	require.NoError(t, err)

	actor, taking, takingPeople := reflect.TypeFor[access.Actor](), reflect.TypeFor[catalogue.Taking](), reflect.TypeFor[directories.Taking]()
	methods := reflect.ValueOf(store)
	for i := range methods.NumMethod() {
		name, method := methods.Type().Method(i).Name, methods.Method(i)
		with := -1
		for n := range method.Type().NumIn() {
			if in := method.Type().In(n); in == actor || in == taking || in == takingPeople {
				with = n
			}
		}
		if with < 0 {
			assert.NotRegexp(t, changes, name, "what changes something takes an actor")
			continue
		}
		for _, by := range []access.Actor{{}, gone} {
			var in []reflect.Value
			for n := range method.Type().NumIn() {
				switch kind := method.Type().In(n); {
				case kind == actor:
					in = append(in, reflect.ValueOf(by))
				case kind == taking:
					in = append(in, reflect.ValueOf(catalogue.Taking{By: by}))
				case kind == takingPeople:
					in = append(in, reflect.ValueOf(directories.Taking{By: by}))
				case kind == reflect.TypeFor[context.Context]():
					in = append(in, reflect.ValueOf(ctx))
				case kind == reflect.TypeFor[uuid.UUID]():
					in = append(in, reflect.ValueOf(list.ID))
				case kind == reflect.TypeFor[revision.Source]():
					in = append(in, reflect.ValueOf(revision.Source{ListID: list.ID}))
				case kind == reflect.TypeFor[time.Time]():
					in = append(in, reflect.ValueOf(time.Now()))
				case kind == reflect.TypeFor[func(revision.Planned) (revision.Publishing, error)]():
					in = append(in, reflect.ValueOf(func(p revision.Planned) (revision.Publishing, error) {
						return revision.Publishing{Version: p.Version}, nil
					}))
				case kind == reflect.TypeFor[*revision.Batch]():
					in = append(in, reflect.ValueOf(revision.NewBatch()))
				default:
					in = append(in, reflect.Zero(kind))
				}
			}
			out := method.Call(in)
			err, _ := out[len(out)-1].Interface().(error)
			var denied *access.DeniedError
			assert.ErrorAs(t, err, &denied, "%s by %q", name, by.Name())
		}
	}
	after, err := store.DraftVersion(ctx)
	require.NoError(t, err)
	assert.Equal(t, before, after)
}

// A plan is carried out with the rights of the account that made it: a removed account has none.
func TestPlansOfPeopleWhoAreGone(t *testing.T) {
	t.Parallel()
	store, ctx := open(t), t.Context()
	person(t, store, "edda")
	rowan := person(t, store, "rowan")
	_, err := store.Plan(ctx, revision.Planned{Due: time.Now().Add(-time.Hour), Version: 1, Note: "due"}, rowan)
	require.NoError(t, err)
	require.NoError(t, store.RemoveAccount(ctx, rowan.Account(), access.Setup))
	made, err := store.PublishDue(ctx, time.Now(), func(p revision.Planned) (revision.Publishing, error) {
		return revision.Publishing{Version: p.Version, Note: p.Note}, nil
	}, access.Timetable)
	require.NoError(t, err)
	assert.Empty(t, made)
	left, err := store.Planned(ctx)
	require.NoError(t, err)
	assert.Empty(t, left)
	events, err := store.Audit(ctx, audit.Query{Limit: 1})
	require.NoError(t, err)
	assert.Equal(t, []any{audit.NotPublished, "rowan", "due: rowan may not publish"}, []any{events[0].What, events[0].By, events[0].Detail})
}
