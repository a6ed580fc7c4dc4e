package postgres

import (
	"context"
	"errors"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"widelark/internal/forward"
	"widelark/internal/revision"
)

// Forwarded implements [forward.Store].
func (s *Store) Forwarded(ctx context.Context, item uuid.UUID) (state forward.State, err error) {
	rows, err := s.within(ctx).Query(ctx, `select position, sent, at, problem, (select count(distinct position) from journal_arrivals a where a.position > f.position) from forwarded f where item = $1`, item)
	state, err = one(rows, err, pgx.RowToStructByPos[forward.State])
	if !errors.Is(err, revision.ErrNotFound) {
		return state, err
	}
	rows, err = s.within(ctx).Query(ctx, `insert into forwarded (item, position) values ($1, (select coalesce(max(position), 0) from journal_arrivals)) returning position`, item)
	state.Position, err = one(rows, err, pgx.RowTo[int64])
	return state, err
}

// NoteForwarded implements [forward.Store].
func (s *Store) NoteForwarded(ctx context.Context, item uuid.UUID, position, sent int64, problem string) error {
	rows, err := s.within(ctx).Query(ctx, `update forwarded set at = case when sent = $3 then at else now() end, position = $2, sent = $3, problem = $4 where item = $1`, item, position, sent, problem)
	if err == nil {
		rows.Close()
		err = rows.Err()
	}
	return ours(err)
}
