package postgres

import (
	"context"
	"database/sql"

	"github.com/pressly/goose/v3"

	"widelark/core/pattern"
)

// rekey is a migration: entries that ask for a query, or hold an escape, get the keys by which they are compared since escapes have one
// spelling. An entry that now equals another one of its list stays until one of them is edited.
var rekey = goose.NewGoMigration(13, &goose.GoFunc{RunTx: func(ctx context.Context, tx *sql.Tx) error {
	rows, err := tx.QueryContext(ctx, `select ctid::text, carve_out, pattern from entries
		where gone is null and kind <> 'regex' and (kind = 'query' or pattern like '%\%%')`)
	if err != nil {
		return err
	}
	defer rows.Close()
	keys := map[string]string{}
	for rows.Next() {
		var place, text string
		var carveOut bool
		if err := rows.Scan(&place, &carveOut, &text); err != nil {
			return err
		}
		if entry, err := pattern.Parse(text); err == nil {
			entry.CarveOut = carveOut
			keys[place] = entry.Key()
		}
	}
	if err := rows.Err(); err != nil {
		return err
	}
	for place, key := range keys {
		if _, err := tx.ExecContext(ctx, `update entries set key = nullif($2, pattern) where ctid = $1::tid`, place, key); err != nil {
			return err
		}
	}
	return nil
}}, nil)
