package accounts

import (
	"regexp"
	"strings"
	"testing"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widelark/internal/testkit"
	"widelark/test/e2e/house"
)

// Whatever is done to the audit log in the database by hand is found, also by somebody who may switch its guards off; and two services seal one chain.
func TestAuditIsVerified(t *testing.T) {
	t.Parallel()
	s := house.Server.Serve(t)
	s.Kill()
	s.Args = []string{"--secret-file", house.File(t, "secret", nil) + ".made"}
	s.Start(t)
	other := &testkit.Service{Database: s.Database, Config: s.Config, Args: s.Args}
	other.Start(t)
	t.Cleanup(other.Kill)
	for _, name := range []string{"Betting", "Video", "Portals"} {
		s.Run(t, "", "list", "new", name).Done(t)
		other.Run(t, "", "list", "add", name, "heron.example").Done(t)
	}
	conn, err := pgx.Connect(t.Context(), s.Database)
	require.NoError(t, err)
	defer conn.Close(t.Context())
	exec := func(sql string) {
		t.Helper()
		_, err := conn.Exec(t.Context(), sql)
		require.NoError(t, err)
	}
	// What a service that was killed had begun, the database may still carry out.
	killed := func(services ...*testkit.Service) {
		t.Helper()
		for _, one := range services {
			one.Kill()
		}
		require.Eventually(t, func() bool {
			var left int
			require.NoError(t, conn.QueryRow(t.Context(), `select count(*) from pg_stat_activity where datname = current_database() and pid <> pg_backend_pid() and backend_type = 'client backend'`).Scan(&left))
			return left == 0
		}, testkit.Patience, testkit.Look)
	}
	sealed := func() {
		t.Helper()
		require.Eventually(t, func() bool {
			var left int
			require.NoError(t, conn.QueryRow(t.Context(), `select count(*) from audit a where not exists (select from audit_chain c where c.event = a.id)`).Scan(&left))
			return left == 0
		}, testkit.Patience, testkit.Look)
	}
	sealed()
	said := s.Run(t, "", "audit", "verify").Done(t)
	assert.Regexp(t, `^\d+ events, as they were written\.\nHead: \d+\.[0-9a-f]{64}\n$`, said)
	head := strings.TrimSpace(regexp.MustCompile(`\d+\.[0-9a-f]{64}`).FindString(said))
	s.Run(t, "", "list", "new", "Later").Done(t)
	sealed()
	other.Run(t, "", "audit", "verify", "--head", head).Done(t)
	assert.Contains(t, s.Run(t, "", "audit", "verify", "--head", "x").Err, "not the head of an audit log")

	_, err = conn.Exec(t.Context(), `update audit set by = 'somebody' where id = 3`)
	require.Error(t, err, "the database itself refuses")
	killed(s, other)
	exec(`alter table audit disable trigger all; alter table audit_chain disable trigger all`)
	for what, one := range map[string]struct{ does, undoes, says string }{
		"changed": {`create table kept as select * from audit where name = 'Video'; update audit set name = 'Harmless' where name = 'Video'`, `update audit a set name = k.name from kept k where k.id = a.id; drop table kept`, "not as it was written"},
		"removed": {`create table kept as select * from audit where name = 'Video'; delete from audit where name = 'Video'`, `insert into audit overriding system value select * from kept; drop table kept`, "it is gone"},
		"removed with its seal": {
			`create table kept as select * from audit_chain where n = 4; delete from audit_chain where n = 4`, `delete from audit_chain where event in (select event from kept); insert into audit_chain select * from kept; drop table kept`, "what was between is gone",
		},
		"put in": {
			`insert into audit (id, at, by, what) overriding system value values (999999, now() - interval '1 day', 'edda', 'signed in')`, `delete from audit where id = 999999`, "it was put in",
		},
	} {
		exec(one.does)
		s.Start(t)
		ran := s.Run(t, "", "audit", "verify")
		assert.Equal(t, 1, ran.Code, what)
		assert.Contains(t, ran.Out, one.says, what)
		killed(s)
		exec(one.undoes)
	}
	// The end taken off, log and seals alike, is known to whoever kept a head.
	s.Start(t)
	sealed()
	head = strings.TrimSpace(regexp.MustCompile(`\d+\.[0-9a-f]{64}`).FindString(s.Run(t, "", "audit", "verify").Done(t)))
	killed(s)
	exec(`delete from audit where id = (select max(event) from audit_chain); delete from audit_chain where n = (select max(n) from audit_chain)`)
	s.Start(t)
	ran := s.Run(t, "", "audit", "verify", "--head", head)
	assert.Equal(t, 1, ran.Code)
	assert.Regexp(t, "its end was taken off|written anew", ran.Out)
}
