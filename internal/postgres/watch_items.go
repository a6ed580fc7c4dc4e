package postgres

import (
	"context"
	"encoding/json"
	"errors"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"widelark/internal/access"
	"widelark/internal/audit"
	"widelark/internal/delivery"
	"widelark/internal/revision"
	"widelark/internal/watch"
)

const watchColumns = `id, kind, name, owner, shared, body, version, updated_at, updated_by, next_at`

func scanWatchItem(row pgx.CollectableRow) (i watch.Item, err error) {
	return i, row.Scan(&i.ID, &i.Kind, &i.Name, &i.Owner, &i.Shared, &i.Body, &i.Version, &i.UpdatedAt, &i.UpdatedBy, &i.NextAt)
}

// WatchItems implements [watch.Store].
func (s *Store) WatchItems(ctx context.Context, kind watch.Kind, account string) ([]watch.Item, error) {
	rows, err := s.pool.Query(ctx, `select `+watchColumns+` from watch_items where kind = $1 and (kind <> 'search' or shared or owner = $2) order by lower(name), id`, string(kind), account)
	return all(rows, err, scanWatchItem)
}

// WatchItem implements [watch.Store].
func (s *Store) WatchItem(ctx context.Context, kind watch.Kind, id uuid.UUID) (watch.Item, error) {
	rows, err := s.pool.Query(ctx, `select `+watchColumns+` from watch_items where kind = $1 and id = $2`, string(kind), id)
	return one(rows, err, scanWatchItem)
}

// mostItems bounds how many items of a kind there are: each of them costs the service work.
const mostItems = 1000

// PutWatchItem implements [watch.Store].
func (s *Store) PutWatchItem(ctx context.Context, item watch.Item, version int64, by access.Actor) (put watch.Item, err error) {
	err = s.as(ctx, by, item.Kind.Act(), func(tx pgx.Tx) error {
		if item.ID == uuid.Nil {
			var many int
			if err := tx.QueryRow(ctx, `select count(*) from watch_items where kind = $1`, string(item.Kind)).Scan(&many); err != nil {
				return err
			}
			if many >= mostItems {
				return &revision.FieldError{Msg: "there are a thousand of them already: remove some first"}
			}
			rows, err := tx.Query(ctx, `insert into watch_items (kind, name, owner, shared, body, updated_by, next_at) values ($1, $2, $3, $4, $5, $3, $6) returning `+watchColumns,
				string(item.Kind), item.Name, by.Name(), item.Shared, item.Body, item.NextAt)
			if put, err = one(rows, err, scanWatchItem); err != nil {
				return err
			}
			return noteWatch(ctx, tx, put, by, audit.WatchMade)
		}
		rows, err := tx.Query(ctx, `select `+watchColumns+` from watch_items where kind = $1 and id = $2 for update`, string(item.Kind), item.ID)
		before, err := one(rows, err, scanWatchItem)
		if err != nil {
			return err
		}
		if version != 0 && before.Version != version {
			return revision.ErrStale
		}
		if err := ownSearch(before, by); err != nil {
			return err
		}
		rows, err = tx.Query(ctx, `update watch_items set name = $2, shared = $3, body = $4, version = version + 1, updated_at = now(), updated_by = $5, next_at = $6 where id = $1 returning `+watchColumns,
			item.ID, item.Name, item.Shared, item.Body, by.Name(), item.NextAt)
		if put, err = one(rows, err, scanWatchItem); err != nil {
			return err
		}
		return noteWatch(ctx, tx, put, by, audit.WatchEdited)
	})
	return put, err
}

// HeldBy implements [watch.Store].
func (s *Store) HeldBy(ctx context.Context, name string) (held []access.Held, err error) {
	err = s.pool.QueryRow(ctx, `select roles from accounts where lower(name) = lower($1)`, name).Scan(&held)
	if errors.Is(err, pgx.ErrNoRows) {
		return nil, nil
	}
	return held, ours(err)
}

// ownSearch refuses edits of a search by others than its owner.
func ownSearch(item watch.Item, by access.Actor) error {
	if item.Kind == watch.Search && item.Owner != by.Name() {
		return &revision.FieldError{Msg: "the search is " + item.Owner + "'s: keep one of your own"}
	}
	return nil
}

// RemoveWatchItem implements [watch.Store].
func (s *Store) RemoveWatchItem(ctx context.Context, kind watch.Kind, id uuid.UUID, version int64, by access.Actor) error {
	return s.as(ctx, by, kind.Act(), func(tx pgx.Tx) error {
		rows, err := tx.Query(ctx, `delete from watch_items where kind = $1 and id = $2 returning `+watchColumns, string(kind), id)
		gone, err := one(rows, err, scanWatchItem)
		if err != nil {
			return err
		}
		if version != 0 && gone.Version != version {
			return revision.ErrStale
		}
		if err := ownSearch(gone, by); err != nil {
			return err
		}
		if _, err := tx.Exec(ctx, `update incidents set over_at = now() where item = $1 and over_at is null`, id); err != nil {
			return err
		}
		return noteWatch(ctx, tx, gone, by, audit.WatchRemoved)
	})
}

// noteWatch notes an edit of something that others see.
func noteWatch(ctx context.Context, tx pgx.Tx, i watch.Item, by access.Actor, what audit.What) error {
	if i.Kind == watch.Search && !i.Shared {
		return nil
	}
	return note(ctx, tx, audit.Event{By: by.Name(), What: what, Kind: string(i.Kind), Object: &i.ID, Name: i.Name})
}

// inside is the key of the transaction that work on an item is in.
type inside struct{}

// within returns what queries of work on an item go through.
func (s *Store) within(ctx context.Context) querier {
	if tx, ok := ctx.Value(inside{}).(pgx.Tx); ok {
		return tx
	}
	return s.pool
}

// dueAgain is when an item whose work failed is tried again.
const dueAgain = time.Minute

// Due implements [watch.Store].
func (s *Store) Due(ctx context.Context, kind watch.Kind, now time.Time, do func(ctx context.Context, item watch.Item) (time.Time, []delivery.Message, error), by access.Actor) error {
	var failed []error
	for ctx.Err() == nil {
		var item watch.Item
		err := s.as(ctx, by, access.Watch, func(tx pgx.Tx) error {
			rows, err := tx.Query(ctx, `select `+watchColumns+` from watch_items where kind = $1 and next_at <= $2 order by next_at limit 1 for update skip locked`, string(kind), now)
			if item, err = one(rows, err, scanWatchItem); err != nil {
				return err
			}
			next, messages, err := do(context.WithValue(ctx, inside{}, tx), item)
			if err != nil {
				return err
			}
			if err := addMessages(ctx, tx, messages); err != nil {
				return err
			}
			_, err = tx.Exec(ctx, `update watch_items set next_at = $2 where id = $1`, item.ID, next)
			return err
		})
		switch {
		case err == nil:
		case item.ID == uuid.Nil && errors.Is(err, revision.ErrNotFound):
			return errors.Join(failed...)
		case item.ID == uuid.Nil:
			return errors.Join(append(failed, err)...)
		default: // others go on
			failed = append(failed, err)
			if _, err := s.pool.Exec(ctx, `update watch_items set next_at = $2 where id = $1 and version = $3`, item.ID, now.Add(dueAgain), item.Version); err != nil {
				return errors.Join(append(failed, err)...)
			}
		}
	}
	return errors.Join(append(failed, ctx.Err())...)
}

func addMessages(ctx context.Context, tx pgx.Tx, messages []delivery.Message) error {
	for _, m := range messages {
		if m.ID == uuid.Nil {
			m.ID = uuid.New()
		}
		packed, err := json.Marshal(m)
		if err != nil {
			return err
		}
		if _, err := tx.Exec(ctx, `insert into outbox (id, key, how, "to", about, subject, message) values ($1, $2, $3, $4, nullif($5, '00000000-0000-0000-0000-000000000000'::uuid), $6, $7) on conflict (key) do nothing`,
			m.ID, m.Key, string(m.How), m.To, m.About, m.Subject, packed); err != nil {
			return err
		}
	}
	return nil
}

// AddMessages implements [delivery.Store].
func (s *Store) AddMessages(ctx context.Context, messages []delivery.Message, by access.Actor) error {
	return s.as(ctx, by, access.Watch, func(tx pgx.Tx) error { return addMessages(ctx, tx, messages) })
}

// NextMessage implements [delivery.Store].
func (s *Store) NextMessage(ctx context.Context, lease time.Duration, by access.Actor) (m delivery.Message, tries int, ok bool, err error) {
	err = s.as(ctx, by, access.Watch, func(tx pgx.Tx) error {
		var packed []byte
		err := tx.QueryRow(ctx, `update outbox set tries = tries + 1, next_at = now() + $1 where id = (select id from outbox where next_at <= now() order by next_at limit 1 for update skip locked) returning message, tries`, lease).Scan(&packed, &tries)
		if errors.Is(err, pgx.ErrNoRows) {
			return nil
		}
		if err != nil {
			return err
		}
		ok = true
		return json.Unmarshal(packed, &m)
	})
	return m, tries, ok, err
}

// SettleMessage implements [delivery.Store]. What was attached to a delivered message is not kept.
func (s *Store) SettleMessage(ctx context.Context, id uuid.UUID, problem string, next time.Time, by access.Actor) error {
	return s.as(ctx, by, access.Watch, func(tx pgx.Tx) error {
		switch {
		case problem == "":
			_, err := tx.Exec(ctx, `update outbox set done_at = now(), next_at = null, problem = '', message = '' where id = $1`, id)
			return err
		case next.IsZero():
			_, err := tx.Exec(ctx, `update outbox set next_at = null, problem = $2 where id = $1`, id, problem)
			return err
		}
		_, err := tx.Exec(ctx, `update outbox set next_at = $3, problem = $2 where id = $1`, id, problem, next)
		return err
	})
}

// Messages implements [delivery.Store].
func (s *Store) Messages(ctx context.Context, about uuid.UUID, limit int) ([]delivery.State, error) {
	rows, err := s.pool.Query(ctx, `select id, key, how, "to", coalesce(about, '00000000-0000-0000-0000-000000000000'), subject, made_at, tries, next_at, done_at, problem from outbox
		where $1 = '00000000-0000-0000-0000-000000000000'::uuid or about = $1 order by made_at desc, id limit $2`, about, limit)
	return all(rows, err, func(row pgx.CollectableRow) (m delivery.State, err error) {
		var next *time.Time
		err = row.Scan(&m.ID, &m.Key, &m.How, &m.To, &m.About, &m.Subject, &m.MadeAt, &m.Tries, &next, &m.DoneAt, &m.Problem)
		if next != nil {
			m.NextAt = *next
		}
		m.GaveUp = next == nil && m.DoneAt == nil
		return m, err
	})
}
