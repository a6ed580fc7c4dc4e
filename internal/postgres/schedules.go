package postgres

import (
	"context"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"widelark/internal/access"
	"widelark/internal/revision"
)

const scheduleColumns = `id, name, description, zone, text, version, updated_at, updated_by`

var scanSchedule = pgx.RowToStructByPos[revision.Schedule]

// Schedules implements [revision.ScheduleStore].
func (s *Store) Schedules(ctx context.Context) ([]revision.Schedule, error) {
	rows, err := s.pool.Query(ctx, `select `+scheduleColumns+` from schedules order by lower(name)`)
	return all(rows, err, scanSchedule)
}

// Schedule implements [revision.ScheduleStore].
func (s *Store) Schedule(ctx context.Context, id uuid.UUID) (revision.Schedule, error) {
	rows, err := s.pool.Query(ctx, `select `+scheduleColumns+` from schedules where id = $1`, id)
	return one(rows, err, scanSchedule)
}

// AddSchedule implements [revision.ScheduleStore].
func (s *Store) AddSchedule(ctx context.Context, made revision.ScheduleEdit, by access.Actor) (added revision.Schedule, err error) {
	err = s.edit(ctx, by, func(tx pgx.Tx, version int64) error {
		rows, err := tx.Query(ctx, `insert into schedules (name, description, zone, text, version, updated_by)
			values ($1, coalesce($2, ''), $3, $4, $5, $6) returning `+scheduleColumns, made.Name, made.Description, made.Zone, made.Text, version, by.Name())
		added, err = one(rows, err, scanSchedule)
		return err
	})
	return added, ours(err)
}

// EditSchedule implements [revision.ScheduleStore].
func (s *Store) EditSchedule(ctx context.Context, id uuid.UUID, edit revision.ScheduleEdit, seen int64, by access.Actor) (edited revision.Schedule, err error) {
	err = s.edit(ctx, by, func(tx pgx.Tx, version int64) error {
		if err := lockVersion(ctx, tx, "schedules", id, seen); err != nil {
			return err
		}
		rows, err := tx.Query(ctx, `update schedules set name = coalesce($2, name), description = coalesce($3, description), zone = coalesce($4, zone),
			text = coalesce($5, text), version = $6, updated_at = now(), updated_by = $7 where id = $1 returning `+scheduleColumns,
			id, edit.Name, edit.Description, edit.Zone, edit.Text, version, by.Name())
		edited, err = one(rows, err, scanSchedule)
		return err
	})
	return edited, ours(err)
}

// RemoveSchedule implements [revision.ScheduleStore].
func (s *Store) RemoveSchedule(ctx context.Context, id uuid.UUID, seen int64, by access.Actor) error {
	return ours(s.edit(ctx, by, func(tx pgx.Tx, _ int64) error {
		if err := lockVersion(ctx, tx, "schedules", id, seen); err != nil {
			return err
		}
		if err := inUse(ctx, tx, revision.KindSchedule, id); err != nil {
			return err
		}
		_, err := tx.Exec(ctx, `delete from schedules where id = $1`, id)
		return err
	}))
}
