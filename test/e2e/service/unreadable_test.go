package service

import (
	"context"
	"os"
	"strings"
	"testing"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widelark/test/e2e/house"
)

// body is SQL that breaks a text in the states of a kind of objects, and in the table of that kind.
func body(kind, from, to string) string {
	return `update objects set body = replace(body::text, '` + from + `', '` + to + `')::jsonb where kind = '` + kind + `' and gone is null`
}

// If a stored text has become unreadable, the service starts, decides everything else as before, names the object as the gravest
// finding, and the command line mends it. The test breaks every column that holds notation, one after the other, and at the end all at once.
func TestUnreadable(t *testing.T) {
	t.Parallel()
	s := house.Server.Serve(t)
	do := func(args ...string) string {
		t.Helper()
		return s.Run(t, "", args...).Done(t)
	}
	m := house.NewMaker(t, s)
	do("pack", "trust", m.Key, "Harbour office")
	do("pack", "add", "Harbour")
	do("pack", "import", "Harbour", m.Build(t, "heron.example,games", "tern.example/wards,news"))
	require.NoError(t, os.WriteFile(m.Path("words.csv"), []byte("word,points\njackpot,200\n"), 0o600))
	for _, args := range [][]string{
		{"list", "new", "Kept"},
		{"list", "add", "Kept", "gull.test", "heron.example/wards", "~ tern[0-9]", "plover.example", "spare.example"},
		{"schedule", "new", "Nights", "mon-sun 20:00-07:30", "--zone", "Europe/London"},
		{"network", "new", "Wards", "10.40.10.0/23"},
		{"machine", "new", "Kiosk", "10.40.30.40"},
		{"group", "new", "Desk", "--machine", "Kiosk", "--range", "10.40.60.0/24"},
		{"category", "correct", "curlew.example", "games", "--why", "seen"},
		{"scorecard", "set", "Cards", "--category", "games", "--words", m.Path("words.csv")},
		{"app", "new", "Share", "share.example", "--activity", "upload:POST:/up"},
		{"engine", "new", "Lark", "lark.example", "--safe-parameter", "calm=1"},
		{"exception", "new", "dunlin.example/a", "--everybody", "--why", "agreed", "--name", "Dunlin"},
		{"policy", "rule", "add", "Fallback", "Kept sites", "--list", "Kept", "--then", "block"},
		{"policy", "rule", "add", "Fallback", "At night", "--app", "share", "--in", "Nights", "--then", "hold"},
		{"policy", "rule", "add", "Fallback", "Searches", "--search", "betting", "--then", "block"},
		{"expect", "add", "gull.test", "--verdict", "block"},
		{"publish", "--note", "to begin with"},
	} {
		do(args...)
	}
	ctx := context.Background()
	conn, err := pgx.Connect(ctx, s.Database)
	require.NoError(t, err)
	defer conn.Close(ctx)
	_, err = conn.Exec(ctx, `set session_replication_role = replica`) // past the triggers, as an older version's text would be there
	require.NoError(t, err)

	faults := []struct {
		sql, told string   // what is broken, and what the review says of it
		mend      []string // nothing where a new file or a restored body is wanted
	}{
		{`update entries set pattern = 'heron..example/wards', key = null where pattern = 'heron.example/wards'`, "heron..example/wards", nil},
		{`update entries set pattern = 'plover..example', key = null where pattern = 'plover.example'`, "plover..example", []string{"list", "remove", "Kept", "plover..example"}},
		{`update entries set pattern = '~ tern(', key = null where pattern like '~ tern%'`, "~ tern(", []string{"list", "remove", "Kept", "~ tern("}},
		{`update entries set pattern = ' ', key = null where pattern = 'spare.example'`, "cannot be read", nil},
		{body("schedule", "20:00-07:30", "20:00-noon") + `; update schedules set text = 'mon-sun 20:00-noon'`, "20:00-noon", []string{"schedule", "edit", "Nights", "--text", "mon-sun 20:00-07:30"}},
		{body("schedule", "Europe/London", "Atlantis/Deep") + `; update schedules set zone = 'Atlantis/Deep'`, "Atlantis/Deep", []string{"schedule", "edit", "Nights", "--zone", "Europe/London"}},
		{body("network", "10.40.10.0/23", "10.40.10.0/99"), "10.40.10.0/99", nil},
		{body("machine", "10.40.30.40", "10.40.30.400"), "10.40.30.400", []string{"machine", "edit", "Kiosk", "--address", "10.40.30.40"}},
		{body("group", "10.40.60.0/24", "10.40.60"), "10.40.60", nil},
		{body("correction", "curlew.example", "curlew..example") + `; update corrections set entry = 'curlew..example'`, "curlew..example", []string{"category", "uncorrect", "1"}},
		{body("scorecard", "jackpot", "**") + `; update scorecards set terms = replace(terms::text, 'jackpot', '**')::jsonb`, "Cards", []string{"scorecard", "set", "Cards", "--words", m.Path("words.csv")}},
		{body("app", "share.example", "share..example"), "share..example", nil},
		{body("app", `"/up"`, `"up"`), "up", nil},
		{body("engine", "lark.example", "lark..example"), "lark..example", nil},
		{body("exception", "dunlin.example/a", "http://2001:db8::7/"), "http://2001:db8::7/", []string{"exception", "end", "Dunlin"}},
		{body("policy", `\"betting\"`, `\"***\"`), "Searches", nil},
		{body("policy", `"rules": [`, `"rules": 7, "rest": [`), "Fallback", nil},
		{`update pack_sites set entry = 'tern..example' where entry like 'tern%'`, "tern..example", nil},
	}
	restore := func() {
		for _, table := range []string{"entries", "objects", "schedules", "corrections", "scorecards", "pack_sites"} {
			_, err := conn.Exec(ctx, `truncate `+table+` cascade; insert into `+table+` overriding system value select * from saved_`+table)
			require.NoError(t, err, table)
		}
	}
	for _, table := range []string{"entries", "objects", "schedules", "corrections", "scorecards", "pack_sites"} {
		_, err := conn.Exec(ctx, `create table saved_`+table+` as select * from `+table)
		require.NoError(t, err, table)
	}
	goesOn := func(what string) {
		t.Helper()
		assert.Contains(t, do("try", "gull.test"), "gull.test", what)
		for _, args := range [][]string{{"status"}, {"lookup", "gull.test"}, {"list", "ls"}, {"list", "show", "Kept"}, {"diff"}, {"schedule", "ls"}, {"category", "corrections"}, {"exception", "ls"}, {"list", "tidy", "Kept"}} {
			do(args...)
		}
	}
	for _, f := range faults {
		s.Kill()
		restore()
		tag, err := conn.Exec(ctx, f.sql)
		require.NoError(t, err, f.sql)
		require.NotZero(t, tag.RowsAffected(), f.sql)
		s.Start(t)
		goesOn(f.sql)
		if !strings.Contains(f.sql, "'policy'") {
			assert.Contains(t, do("try", "gull.test"), "block", f.sql)
		}
		found := s.Run(t, "", "review")
		assert.Contains(t, found.Out, f.told, f.sql)
		assert.Contains(t, strings.Join(strings.Split(found.Out, "\n")[:2], " "), "cannot be read", f.sql)
		if f.mend != nil {
			do(f.mend...)
			assert.NotContains(t, s.Run(t, "", "review").Out, "cannot be read", f.sql)
		}
		s.Run(t, "", "publish", "--note", "all the same", "--force", "because")
	}
	s.Kill()
	restore()
	for _, f := range faults {
		_, err := conn.Exec(ctx, f.sql)
		require.NoError(t, err)
	}
	s.Start(t)
	goesOn("all at once")
}
