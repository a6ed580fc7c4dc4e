package postgres

import (
	"context"
	"fmt"
	"slices"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"widelark/core/policy"
	"widelark/internal/revision"
)

var scanGroup = pgx.RowToStructByName[revision.Group]

const groupColumns = `id, name, description, version, updated_at, updated_by`

// Groups implements [revision.Store].
func (s *Store) Groups(ctx context.Context) ([]revision.Group, error) {
	rows, err := s.pool.Query(ctx, `select `+groupColumns+` from groups order by lower(name)`)
	return all(rows, err, scanGroup)
}

// EditGroup implements [revision.Store].
func (s *Store) EditGroup(ctx context.Context, id uuid.UUID, edit revision.GroupEdit, seen int64, by string) (edited revision.Group, err error) {
	err = s.edit(ctx, func(tx pgx.Tx, version int64) error {
		if err := lockVersion(ctx, tx, "groups", id, seen); err != nil {
			return err
		}
		rows, err := tx.Query(ctx, `update groups set name = coalesce($2, name), description = coalesce($3, description),
			version = $4, updated_at = now(), updated_by = $5 where id = $1 returning `+groupColumns,
			id, edit.Name, edit.Description, version, by)
		edited, err = one(rows, err, scanGroup)
		return err
	})
	return edited, ours(err)
}

// Policies implements [revision.Store].
func (s *Store) Policies(ctx context.Context) ([]revision.Policy, error) {
	return policies(ctx, s.pool)
}

func policies(ctx context.Context, q querier) ([]revision.Policy, error) {
	rows, err := q.Query(ctx, `select p.id, p.name, p.description, p.otherwise, p.version, p.updated_at, p.updated_by,
			g.id, g.name, g.description, g.version, g.updated_at, g.updated_by
		from policies p join groups g on g.id = p.group_id order by p.position, lower(p.name)`)
	found, err := all(rows, err, func(row pgx.CollectableRow) (p revision.Policy, err error) {
		g := &p.Group
		err = row.Scan(&p.ID, &p.Name, &p.Description, &p.Otherwise, &p.Version, &p.UpdatedAt, &p.UpdatedBy,
			&g.ID, &g.Name, &g.Description, &g.Version, &g.UpdatedAt, &g.UpdatedBy)
		return p, err
	})
	if err != nil {
		return nil, err
	}
	at := map[uuid.UUID]*revision.Policy{}
	for i := range found {
		found[i].Rules = []revision.Rule{}
		at[found[i].ID] = &found[i]
	}
	rows, err = q.Query(ctx, `select r.policy_id, r.position, r.name, r.verdict, r.categories, l.id, coalesce(l.name, '')
		from rules r left join rule_lists rl on rl.policy_id = r.policy_id and rl.rule = r.position
		left join lists l on l.id = rl.list_id order by r.policy_id, r.position, rl.position`)
	if err != nil {
		return nil, err
	}
	var (
		id, last   uuid.UUID
		position   int
		name       string
		verdict    policy.Verdict
		lastAt     = -1
		memberID   *uuid.UUID // null for a rule without lists
		member     string
		categories []string
	)
	_, err = pgx.ForEachRow(rows, []any{&id, &position, &name, &verdict, &categories, &memberID, &member}, func() error {
		p := at[id]
		if id != last || position != lastAt {
			p.Rules = append(p.Rules, revision.Rule{Name: name, Verdict: verdict, Lists: []revision.ListRef{}, Categories: slices.Clone(categories)})
			last, lastAt = id, position
		}
		rule := &p.Rules[len(p.Rules)-1]
		if memberID != nil {
			rule.Lists = append(rule.Lists, revision.ListRef{ID: *memberID, Name: member})
		}
		return nil
	})
	return found, err
}

// EditPolicy implements [revision.Store].
func (s *Store) EditPolicy(ctx context.Context, id uuid.UUID, edit revision.PolicyEdit, seen int64, by string) (edited revision.Policy, err error) {
	err = s.edit(ctx, func(tx pgx.Tx, version int64) error {
		if err := lockVersion(ctx, tx, "policies", id, seen); err != nil {
			return err
		}
		_, err := tx.Exec(ctx, `update policies set name = coalesce($2, name), description = coalesce($3, description),
			otherwise = coalesce($4, otherwise), version = $5, updated_at = now(), updated_by = $6 where id = $1`,
			id, edit.Name, edit.Description, edit.Otherwise, version, by)
		if err != nil {
			return err
		}
		if edit.Rules != nil {
			if err := replaceRules(ctx, tx, id, *edit.Rules); err != nil {
				return err
			}
		}
		found, err := policies(ctx, tx)
		for _, p := range found {
			if p.ID == id {
				edited = p
			}
		}
		return err
	})
	return edited, ours(err)
}

func replaceRules(ctx context.Context, tx pgx.Tx, id uuid.UUID, rules []revision.RuleEdit) error {
	if _, err := tx.Exec(ctx, `delete from rules where policy_id = $1`, id); err != nil {
		return err
	}
	for r, rule := range rules {
		_, err := tx.Exec(ctx, `insert into rules (policy_id, position, name, verdict, categories) values ($1, $2, $3, $4, coalesce($5::text[], '{}'))`,
			id, r, rule.Name, rule.Verdict, rule.Categories)
		if err != nil {
			return err
		}
		for l, listID := range rule.Lists {
			tag, err := tx.Exec(ctx, `insert into rule_lists (policy_id, rule, position, list_id)
				select $1, $2, $3, id from lists where id = $4`, id, r, l, listID)
			if err != nil {
				return err
			}
			if tag.RowsAffected() == 0 {
				return &revision.FieldError{Field: fmt.Sprintf("rules[%d].lists[%d]", r, l), Msg: "there is no such list"}
			}
		}
	}
	return nil
}
