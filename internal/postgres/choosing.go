package postgres

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"widelark/internal/access"
	"widelark/internal/audit"
	"widelark/internal/change"
	"widelark/internal/revision"
)

// Choose implements [revision.PublishStore].
func (s *Store) Choose(ctx context.Context, seen int64, objects []uuid.UUID, by access.Actor) (chosen revision.Chosen, err error) {
	err = pgx.BeginFunc(ctx, s.pool, func(tx pgx.Tx) error {
		if err := begin(ctx, tx, by, access.Publish); err != nil {
			return err
		}
		if _, err := tx.Exec(ctx, publishLock); err != nil {
			return err
		}
		var live, version int64
		if err := tx.QueryRow(ctx, `select version from draft for update`).Scan(&version); err != nil {
			return err
		}
		if err := tx.QueryRow(ctx, `select version from revisions order by number desc limit 1`).Scan(&live); err != nil {
			return err
		}
		if seen != 0 && seen != version {
			return revision.ErrStale
		}
		states, err := differences(ctx, tx, live, version)
		if err != nil {
			return err
		}
		found := change.WithWhatTheyHangOn(states, objects)
		for _, id := range objects {
			if !slices.ContainsFunc(found, func(st revision.ObjectState) bool { return st.ID == id }) {
				return fmt.Errorf("%w: %s does not differ from what is live", revision.ErrNotFound, id)
			}
		}
		chosen = revision.Chosen{Version: version, Objects: found}
		if len(found) == len(states) {
			return nil
		}
		var others []revision.ObjectState
		var ids []uuid.UUID
		for _, st := range states {
			if !slices.ContainsFunc(found, func(o revision.ObjectState) bool { return o.ID == st.ID }) {
				others, ids = append(others, st), append(ids, st.ID)
			}
		}
		if chosen.Version, err = setAside(ctx, tx, live, ids, by.Name()); err != nil {
			return err
		}
		again, err := setAside(ctx, tx, version, ids, by.Name())
		if err != nil {
			return err
		}
		return carry(ctx, tx, again, others)
	})
	return chosen, ours(err)
}

// setAside makes the next version of the draft, in which some objects are as they were at another version.
func setAside(ctx context.Context, tx pgx.Tx, to int64, ids []uuid.UUID, by string) (version int64, err error) {
	var named, aside string
	err = tx.QueryRow(ctx, `with next as (update draft set version = version + 1 returning version)
		insert into edits (version, by, aside) select version, $1, true from next returning version, set_config('widelark.by', $1, true), set_config('widelark.aside', 'on', true)`, by).Scan(&version, &named, &aside)
	if err != nil {
		return 0, err
	}
	return version, restore(ctx, tx, version, to, ids, by)
}

// carry says of objects that were put back who edited them, and when.
func carry(ctx context.Context, tx pgx.Tx, version int64, states []revision.ObjectState) error {
	for _, st := range states {
		for _, by := range st.By {
			if _, err := tx.Exec(ctx, `insert into carried (version, object, by, at) values ($1, $2, $3, $4)`, version, st.ID, by, st.At); err != nil {
				return err
			}
		}
		if st.After == nil {
			continue
		}
		if _, err := tx.Exec(ctx, `update objects set updated_by = $3, updated_at = $4 where id = $1 and since = $2`, st.ID, version, st.After.UpdatedBy, st.After.UpdatedAt); err != nil {
			return err
		}
		if table, ok := tableOf[st.Kind]; ok && st.Kind != revision.KindCorrection {
			if _, err := tx.Exec(ctx, `update `+table+` set updated_by = $2, updated_at = $3 where id = $1`, st.ID, st.After.UpdatedBy, st.After.UpdatedAt); err != nil {
				return err
			}
		}
	}
	return nil
}

// secondLook refuses, where two people have to see each change, the publishing of what somebody edited alone.
func secondLook(ctx context.Context, tx pgx.Tx, states []revision.ObjectState, by access.Actor) error {
	var on bool
	if err := tx.QueryRow(ctx, `select second_look from practices`).Scan(&on); err != nil || !on {
		return err
	}
	var alone []string
	for i := range states {
		st := &states[i]
		if !slices.ContainsFunc(st.By, func(name string) bool { return !strings.EqualFold(name, by.Name()) }) {
			alone = append(alone, fmt.Sprintf("the %s %q", st.Kind, st.Name()))
		}
	}
	if len(alone) > 0 {
		return &revision.AloneError{Objects: alone}
	}
	return nil
}

// Practices implements [revision.PublishStore].
func (s *Store) Practices(ctx context.Context) (p revision.Practices, err error) {
	err = s.pool.QueryRow(ctx, `select second_look, desk_mail, updated_at, updated_by from practices`).Scan(&p.SecondLook, &p.DeskMail, &p.UpdatedAt, &p.UpdatedBy)
	return p, ours(err)
}

// PutPractices implements [revision.PublishStore].
func (s *Store) PutPractices(ctx context.Context, secondLook bool, by access.Actor) error {
	return s.as(ctx, by, access.Practices, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, `update practices set second_look = $1, updated_at = now(), updated_by = $2`, secondLook, by.Name()); err != nil {
			return err
		}
		detail := "one person is enough to publish"
		if secondLook {
			detail = "what one person edited alone is published by another"
		}
		return note(ctx, tx, audit.Event{By: by.Name(), What: audit.PracticesPut, Detail: detail})
	})
}

// PutDeskMail implements [revision.PublishStore].
func (s *Store) PutDeskMail(ctx context.Context, addresses []string, by access.Actor) error {
	return s.as(ctx, by, access.Practices, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, `update practices set desk_mail = $1, updated_at = now(), updated_by = $2`, addresses, by.Name()); err != nil {
			return err
		}
		detail := "nobody is told of new requests by mail"
		if len(addresses) > 0 {
			detail = "mail tells of new requests: " + strings.Join(addresses, ", ")
		}
		return note(ctx, tx, audit.Event{By: by.Name(), What: audit.PracticesPut, Detail: detail})
	})
}

const remarkColumns = `id, at, by, text, object, version, coalesce(asks, ''), done_at, coalesce(done_by, '')`

var scanRemark = pgx.RowToStructByPos[revision.Remark]

// Remarks implements [revision.PublishStore].
func (s *Store) Remarks(ctx context.Context, limit int) ([]revision.Remark, error) {
	rows, err := s.pool.Query(ctx, `select `+remarkColumns+` from remarks order by done_at is not null, id desc limit $1`, limit)
	return all(rows, err, scanRemark)
}

// AddRemark implements [revision.PublishStore].
func (s *Store) AddRemark(ctx context.Context, r revision.Remark, by access.Actor) (made revision.Remark, err error) {
	err = s.as(ctx, by, access.Remark, func(tx pgx.Tx) error {
		var asks, name *string
		if r.Asks != "" {
			var known string
			err := tx.QueryRow(ctx, `select name from accounts where lower(name) = lower($1)`, r.Asks).Scan(&known)
			if errors.Is(err, pgx.ErrNoRows) {
				return &revision.FieldError{Field: "asks", Msg: fmt.Sprintf("there is no account %q", r.Asks)}
			}
			if err != nil {
				return err
			}
			asks = &known
		}
		if r.Object != nil {
			err := tx.QueryRow(ctx, `select name from objects where id = $1 order by since desc limit 1`, *r.Object).Scan(&name)
			if errors.Is(err, pgx.ErrNoRows) {
				return &revision.FieldError{Field: "object", Msg: "there is no such object in the draft"}
			}
			if err != nil {
				return err
			}
		}
		rows, err := tx.Query(ctx, `insert into remarks (by, text, object, version, asks) select $1, $2, $3, version, $4 from draft returning `+remarkColumns, by.Name(), r.Text, r.Object, asks)
		if made, err = one(rows, err, scanRemark); err != nil {
			return err
		}
		e := audit.Event{By: by.Name(), What: audit.Remarked, Object: r.Object, Version: &made.Version, Detail: r.Text}
		if name != nil {
			e.Name = *name
		}
		if asks != nil {
			e.What, e.Name = audit.AskedToLook, *asks
		}
		return note(ctx, tx, e)
	})
	return made, ours(err)
}

// EndRemark implements [revision.PublishStore].
func (s *Store) EndRemark(ctx context.Context, id int64, by access.Actor) (r revision.Remark, err error) {
	err = s.as(ctx, by, access.Remark, func(tx pgx.Tx) error {
		done, err := tx.Exec(ctx, `update remarks set done_at = now(), done_by = $2 where id = $1 and done_at is null`, id, by.Name())
		if err != nil {
			return err
		}
		rows, err := tx.Query(ctx, `select `+remarkColumns+` from remarks where id = $1`, id)
		if r, err = one(rows, err, scanRemark); err != nil || done.RowsAffected() == 0 {
			return err
		}
		return note(ctx, tx, audit.Event{By: by.Name(), What: audit.RemarkDone, Object: r.Object, Detail: r.Text})
	})
	return r, ours(err)
}
