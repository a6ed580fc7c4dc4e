package postgres

import (
	"context"
	"slices"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"widelark/internal/revision"
)

// Policies name apps and categories by keys, not by ids, so object_refs does not hold these references.

// appKeys returns the keys of an app and of its activities; none for other objects.
func appKeys(ctx context.Context, q querier, id uuid.UUID) ([]string, error) {
	rows, err := q.Query(ctx, `select `+objectColumns+` from objects where id = $1 and kind = $2 order by since desc limit 1`, id, revision.KindApp)
	found, err := all(rows, err, scanObject)
	if err != nil || len(found) == 0 {
		return nil, err
	}
	app, err := revision.Decode[revision.AppBody](found[0])
	keys := []string{app.Key}
	for _, a := range app.Activities {
		keys = append(keys, app.Key+"/"+a.Key)
	}
	return keys, err
}

// keyUses returns the policies that ask for one of some apps or, without app, categories.
func keyUses(ctx context.Context, q querier, app bool, keys []string) ([]revision.ObjectUse, error) {
	if len(keys) == 0 {
		return nil, nil
	}
	rows, err := q.Query(ctx, `select `+objectColumns+` from objects where kind = $1 and gone is null order by lower(name)`, revision.KindPolicy)
	policies, err := all(rows, err, scanObject)
	if err != nil {
		return nil, err
	}
	var found []revision.ObjectUse
	for _, o := range policies {
		body, err := revision.Decode[revision.PolicyBody](o)
		if err != nil {
			return nil, err
		}
		asks := false
		_ = body.Keys(func(_, key string, isApp bool) error {
			asks = asks || isApp == app && slices.Contains(keys, key)
			return nil
		})
		if asks {
			found = append(found, revision.ObjectUse{Kind: o.Kind, ID: o.ID, Name: o.Name})
		}
	}
	return found, nil
}

// lostUses returns the first key of an app that an edit removed although policies ask for it, with these policies.
func lostUses(ctx context.Context, tx pgx.Tx, before []string) (key string, found []revision.ObjectUse, err error) {
	if len(before) == 0 {
		return "", nil, nil
	}
	rows, err := tx.Query(ctx, `select id from objects where kind = $1 and gone is null`, revision.KindApp)
	apps, err := all(rows, err, pgx.RowTo[uuid.UUID])
	if err != nil {
		return "", nil, err
	}
	lost := slices.Clone(before)
	for _, id := range apps {
		kept, err := appKeys(ctx, tx, id)
		if err != nil {
			return "", nil, err
		}
		lost = slices.DeleteFunc(lost, func(key string) bool { return slices.Contains(kept, key) })
	}
	for _, key := range lost {
		if found, err := keyUses(ctx, tx, true, []string{key}); err != nil || len(found) > 0 {
			return key, found, err
		}
	}
	return "", nil, nil
}

// mayGo refuses to delete what objects refer to. An app may be deleted if another has its key by now.
func mayGo(ctx context.Context, tx pgx.Tx, kind revision.Kind, id uuid.UUID) error {
	if kind != revision.KindApp {
		return inUse(ctx, tx, kind, id)
	}
	keys, err := appKeys(ctx, tx, id)
	if err != nil {
		return err
	}
	_, found, err := lostUses(ctx, tx, keys)
	if err != nil {
		return err
	}
	return usedBy(found)
}
