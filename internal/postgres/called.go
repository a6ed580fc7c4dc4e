package postgres

import (
	"context"
	"strconv"
	"strings"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"widelark/internal/journal/query"
)

// named is what things of a sort are called, and were called before: id, name, and whether they are there now. Rules are parts of policies; people have two names.
func named(sort query.Sort) (from string, args []any) {
	switch sort {
	case query.Rules:
		return `(select (rule->>'id')::uuid as id, rule->>'name' as name, gone is null as now from objects, jsonb_array_elements(coalesce(nullif(body->'rules', 'null'), '[]')) rule where kind = 'policy' and rule->>'id' <> '')`, nil
	case query.People:
		return `(select id, name, gone is null as now from objects where kind = 'person'
			union all select id, body->>'fullName', gone is null from objects where kind = 'person' and body->>'fullName' <> '')`, nil
	}
	return `(select id, name, gone is null as now from objects where kind = $2)`, []any{string(sort)}
}

var likeEscapes = strings.NewReplacer(`\`, `\\`, `%`, `\%`, `_`, `\_`, `*`, `%`)

// Called implements [query.Names].
func (s *Store) Called(ctx context.Context, sort query.Sort, like string) ([]uuid.UUID, error) {
	from, args := named(sort)
	rows, err := s.pool.Query(ctx, `select distinct id from `+from+` n where lower(name) like lower($1)`, append([]any{likeEscapes.Replace(like)}, args...)...)
	return all(rows, err, pgx.RowTo[uuid.UUID])
}

// Beginning implements [query.Names].
func (s *Store) Beginning(ctx context.Context, sort query.Sort, with string, limit int) ([]string, error) {
	from, args := named(sort)
	rows, err := s.pool.Query(ctx, `select name from `+from+` n where now and lower(name) like lower($1) || '%' group by name order by lower(name), name limit `+strconv.Itoa(limit), append([]any{likeEscapes.Replace(strings.ReplaceAll(with, "*", ""))}, args...)...)
	return all(rows, err, pgx.RowTo[string])
}

// RuleNames returns the names that rules had last, by their ids.
func (s *Store) RuleNames(ctx context.Context, ids []uuid.UUID) (map[uuid.UUID]string, error) {
	if len(ids) == 0 {
		return map[uuid.UUID]string{}, nil
	}
	from, _ := named(query.Rules)
	rows, err := s.pool.Query(ctx, `select distinct on (id) id, coalesce(name, '') from `+from+` n where id = any($1) order by id, now desc`, ids)
	return namesByID(rows, err)
}
