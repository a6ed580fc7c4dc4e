package postgres

import (
	"bufio"
	"context"
	"fmt"
	"strconv"
	"strings"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"widelark/core/classify"
	"widelark/internal/access"
	"widelark/internal/audit"
	"widelark/internal/catalogue"
	"widelark/internal/revision"
	"widelark/packfile"
)

const (
	packColumns = `p.id, p.key, p.name, p.rank, p.url, p.every_min, p.paused, p.max_bytes, p.max_shrink, p.hold, p.etag, p.next_at, p.tried_at,
		p.pulled_at, p.result, p.told, p.bytes, p.before, p.in_force, p.held, p.latest`
	stateColumns = `number, version, date, licence, signer, sites, added, moved, gone, arrived_at, by`
)

// packsWhere reads packs with their states. where is a condition, and may include an order.
func packsWhere(ctx context.Context, q querier, where string, args ...any) ([]catalogue.Pack, error) {
	rows, err := q.Query(ctx, `select `+packColumns+` from packs p where `+where, args...)
	numbers := map[uuid.UUID][3]int64{}
	packs, err := all(rows, err, func(row pgx.CollectableRow) (p catalogue.Pack, err error) {
		var minutes int
		var n [3]int64
		err = row.Scan(&p.ID, &p.Key, &p.Name, &p.Rank, &p.URL, &minutes, &p.Paused, &p.MaxBytes, &p.MaxShrink, &p.Hold, &p.ETag, &p.NextAt, &p.TriedAt,
			&p.PulledAt, &p.Result, &p.Told, &p.Bytes, &p.Before, &n[0], &n[1], &n[2])
		p.Every = time.Duration(minutes) * time.Minute
		numbers[p.ID] = n
		return p, err
	})
	if err != nil {
		return nil, err
	}
	for i := range packs {
		p := &packs[i]
		for at, to := range []**catalogue.State{&p.InForce, &p.Waiting, &p.Latest} {
			number := numbers[p.ID][at]
			if number == 0 {
				continue
			}
			rows, err := q.Query(ctx, `select `+stateColumns+` from pack_states where pack_id = $1 and number = $2`, p.ID, number)
			state, err := one(rows, err, pgx.RowToStructByPos[catalogue.State])
			if err != nil {
				return nil, err
			}
			*to = &state
		}
	}
	return packs, nil
}

func pack(ctx context.Context, q querier, id uuid.UUID) (catalogue.Pack, error) {
	found, err := packsWhere(ctx, q, `p.id = $1`, id)
	if err == nil && len(found) == 0 {
		err = revision.ErrNotFound
	}
	if err != nil {
		return catalogue.Pack{}, err
	}
	return found[0], nil
}

// Packs implements [catalogue.Store].
func (s *Store) Packs(ctx context.Context) ([]catalogue.Pack, error) {
	return packsWhere(ctx, s.pool, `true order by p.rank`)
}

// Pack implements [catalogue.Store].
func (s *Store) Pack(ctx context.Context, id uuid.UUID) (catalogue.Pack, error) {
	return pack(ctx, s.pool, id)
}

// DuePacks implements [catalogue.Store].
func (s *Store) DuePacks(ctx context.Context, at time.Time) ([]catalogue.Pack, error) {
	return packsWhere(ctx, s.pool, `p.url <> '' and not p.paused and p.next_at <= $1 order by p.next_at`, at)
}

// AddPack implements [catalogue.Store].
func (s *Store) AddPack(ctx context.Context, name string, c catalogue.Settings, by access.Actor) (added catalogue.Pack, err error) {
	err = s.as(ctx, by, access.EditPacks, func(tx pgx.Tx) error {
		var count int
		if err := tx.QueryRow(ctx, `select count(*) from packs`).Scan(&count); err != nil {
			return err
		}
		if count >= catalogue.MaxPacks {
			return &revision.FieldError{Field: "name", Msg: fmt.Sprintf("there are %d packs already, as many as there may be", count)}
		}
		var id uuid.UUID
		err := tx.QueryRow(ctx, `insert into packs (name, rank, url, every_min, paused, max_bytes, max_shrink, hold)
			values ($1, (select coalesce(max(rank), 0) + 1 from packs), $2, $3, $4, $5, $6, $7) returning id`,
			name, c.URL, int(c.Every.Minutes()), c.Paused, c.MaxBytes, c.MaxShrink, c.Hold).Scan(&id)
		if err == nil {
			added, err = pack(ctx, tx, id)
		}
		if err == nil {
			err = note(ctx, tx, audit.Event{By: by.Name(), What: audit.PackAdded, Name: name, Detail: c.URL})
		}
		return err
	})
	return added, err
}

// lockPack locks a pack's row and returns the pack.
func lockPack(ctx context.Context, tx pgx.Tx, id uuid.UUID) (catalogue.Pack, error) {
	if _, err := tx.Exec(ctx, `select from packs where id = $1 for update`, id); err != nil {
		return catalogue.Pack{}, err
	}
	return pack(ctx, tx, id)
}

// EditPack implements [catalogue.Store].
func (s *Store) EditPack(ctx context.Context, id uuid.UUID, e catalogue.Edit, by access.Actor) (edited catalogue.Pack, err error) {
	err = s.as(ctx, by, access.EditPacks, func(tx pgx.Tx) error {
		before, err := lockPack(ctx, tx, id)
		if err != nil {
			return err
		}
		c := before.Settings
		set(&c.URL, e.URL)
		set(&c.Every, e.Every)
		set(&c.Paused, e.Paused)
		set(&c.MaxBytes, e.MaxBytes)
		set(&c.MaxShrink, e.MaxShrink)
		set(&c.Hold, e.Hold)
		if err := c.Checked(); err != nil {
			return err
		}
		_, err = tx.Exec(ctx, `update packs set name = coalesce($2, name), url = $3, every_min = $4, paused = $5, max_bytes = $6, max_shrink = $7, hold = $8,
			etag = case when url = $3 then etag else '' end,
			next_at = case when url = $3 then least(next_at, now() + make_interval(mins => $4)) else now() end where id = $1`,
			id, e.Name, c.URL, int(c.Every.Minutes()), c.Paused, c.MaxBytes, c.MaxShrink, c.Hold)
		if err == nil && e.Rank != nil && *e.Rank != before.Rank {
			err = rerank(ctx, tx, id, *e.Rank)
		}
		if err == nil {
			edited, err = pack(ctx, tx, id)
		}
		if err == nil {
			err = note(ctx, tx, audit.Event{By: by.Name(), What: audit.PackEdited, Name: edited.Name})
		}
		return err
	})
	return edited, err
}

// set assigns an edit's field if it is given.
func set[T any](field *T, edit *T) {
	if edit != nil {
		*field = *edit
	}
}

// rerank moves a pack to a rank; the others keep their order.
func rerank(ctx context.Context, tx pgx.Tx, id uuid.UUID, rank int) error {
	_, err := tx.Exec(ctx, `update packs p set rank = o.rank from (
			select id, row_number() over (order by case when id = $1 then $2 - 0.5 + (case when rank < $2 then 1 else 0 end) else rank end) as rank from packs
		) o where o.id = p.id`, id, rank)
	if err != nil {
		return err
	}
	return changed(ctx, tx)
}

// changed notifies every service that the catalogue changed.
func changed(ctx context.Context, tx pgx.Tx) error {
	_, err := tx.Exec(ctx, `update catalogue set version = version + 1`)
	return err
}

// RemovePack implements [catalogue.Store].
func (s *Store) RemovePack(ctx context.Context, id uuid.UUID, by access.Actor) error {
	return s.as(ctx, by, access.EditPacks, func(tx pgx.Tx) error {
		before, err := lockPack(ctx, tx, id)
		if err != nil {
			return err
		}
		if _, err := tx.Exec(ctx, `drop table if exists `+sitesOf(id)); err != nil {
			return err
		}
		if _, err := tx.Exec(ctx, `delete from packs where id = $1`, id); err != nil {
			return err
		}
		if _, err := tx.Exec(ctx, `update packs set rank = rank - 1 where rank > $1`, before.Rank); err != nil {
			return err
		}
		if err := note(ctx, tx, audit.Event{By: by.Name(), What: audit.PackRemoved, Name: before.Name}); err != nil {
			return err
		}
		return changed(ctx, tx)
	})
}

// KeepPackPull implements [catalogue.Store].
func (s *Store) KeepPackPull(ctx context.Context, p catalogue.Pack, by access.Actor) error {
	return s.as(ctx, by, access.EditPacks, func(tx pgx.Tx) error {
		_, err := tx.Exec(ctx, `update packs set etag = $2, next_at = $3, tried_at = $4, pulled_at = $5, result = $6, told = $7, bytes = $8 where id = $1`,
			p.ID, p.ETag, p.NextAt, p.TriedAt, p.PulledAt, p.Result, p.Told, p.Bytes)
		return err
	})
}

// sitesOf returns the name of a pack's partition.
func sitesOf(id uuid.UUID) string { return "pack_sites_" + strings.ReplaceAll(id.String(), "-", "") }

// holds is the condition for the sites c of a pack at a state.
func holds(number string) string {
	return `c.since <= ` + number + ` and (c.gone is null or c.gone > ` + number + `)`
}

// Take implements [catalogue.Store]. It is one transaction: whatever ends it leaves the catalogue as it was.
func (s *Store) Take(ctx context.Context, id uuid.UUID, file *packfile.Reader, how catalogue.Taking) (after catalogue.Pack, err error) {
	err = s.as(ctx, how.By, access.EditPacks, func(tx pgx.Tx) error {
		before, err := lockPack(ctx, tx, id)
		if err != nil {
			return err
		}
		if err := fits(before, file); err != nil {
			return err
		}
		var twin string
		err = tx.QueryRow(ctx, `select coalesce((select name from packs where key = $1 and id <> $2), '')`, file.Key, id).Scan(&twin)
		if err != nil {
			return err
		}
		if twin != "" {
			return &catalogue.RefusedError{Msg: fmt.Sprintf("The pack %q is here already, as %q", file.Key, twin)}
		}
		state, err := takeSites(ctx, tx, before, file, how)
		if err != nil {
			return err
		}
		if limit := int64(how.MaxShrink); before.Latest != nil && state.Gone*100 > before.Latest.Sites*limit {
			return &catalogue.RefusedError{Msg: fmt.Sprintf("It would take away %d of %d sites, more than %d per cent", state.Gone, before.Latest.Sites, limit)}
		}
		taxonomy, err := packfile.MarshalTaxonomy(file.Taxonomy)
		if err != nil {
			return err
		}
		_, err = tx.Exec(ctx, `insert into pack_states (pack_id, number, version, date, licence, signer, taxonomy, sites, added, moved, gone, by)
			values ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12)`, id, state.Number, file.Version, file.Date, file.Licence, file.Signer, taxonomy,
			state.Sites, state.Added, state.Moved, state.Gone, how.By.Name())
		if err != nil {
			return err
		}
		if _, err := tx.Exec(ctx, `update packs set key = $2, latest = $3 where id = $1`, id, file.Key, state.Number); err != nil {
			return err
		}
		if how.Hold && before.InForce != nil {
			if _, err := tx.Exec(ctx, `update packs set held = $2 where id = $1`, id, state.Number); err != nil {
				return err
			}
			err = happened(ctx, tx, id, how.By.Name(), catalogue.EventHeld, state.Number)
		} else {
			err = putInForce(ctx, tx, id, how.By.Name(), catalogue.EventInForce, state.Number, before.InForce)
		}
		if err == nil {
			after, err = pack(ctx, tx, id)
		}
		return err
	})
	return after, err
}

// fits returns why a file cannot follow the present state; nil if it can.
func fits(before catalogue.Pack, file *packfile.Reader) error {
	latest := int64(0)
	if before.Latest != nil {
		latest = before.Latest.Version
	}
	switch {
	case before.Key != "" && before.Key != file.Key:
		return &catalogue.RefusedError{Msg: fmt.Sprintf("It is the pack %q, and %q is wanted", file.Key, before.Key)}
	case file.Version == latest:
		return catalogue.ErrNothingNew
	case file.Version < latest:
		return &catalogue.RefusedError{Msg: fmt.Sprintf("It is version %d, older than version %d that is there", file.Version, latest)}
	case file.Base > 0 && file.Base != latest:
		return &catalogue.RefusedError{Msg: fmt.Sprintf("It only says what changed since version %d, and version %d is there", file.Base, latest)}
	}
	return nil
}

// happened records an event, with the pack and in the audit log.
func happened(ctx context.Context, tx pgx.Tx, id uuid.UUID, by, what string, number int64) error {
	if _, err := tx.Exec(ctx, `insert into pack_events (pack_id, by, what, number) values ($1, $2, $3, $4)`, id, by, what, number); err != nil {
		return err
	}
	e := audit.Event{By: by, What: audited[what]}
	var version int64
	err := tx.QueryRow(ctx, `select p.name, t.version from packs p join pack_states t on t.pack_id = p.id and t.number = $2 where p.id = $1`, id, number).Scan(&e.Name, &version)
	if err != nil {
		return err
	}
	e.Detail = fmt.Sprintf("version %d", version)
	return note(ctx, tx, e)
}

// audited are the names in the audit log of what happens to packs.
var audited = map[string]audit.What{
	catalogue.EventInForce: audit.PackInForce,
	catalogue.EventHeld:    audit.PackHeld,
	catalogue.EventRefused: audit.PackRefused,
	catalogue.EventUndone:  audit.PackUndone,
}

// putInForce puts a state in force. before is the state that was in force until now.
func putInForce(ctx context.Context, tx pgx.Tx, id uuid.UUID, by, what string, number int64, before *catalogue.State) error {
	last := int64(0)
	if before != nil {
		last = before.Number
	}
	if _, err := tx.Exec(ctx, `update packs set in_force = $2, before = $3, held = case when held > $2 then held else 0 end where id = $1`, id, number, last); err != nil {
		return err
	}
	if err := happened(ctx, tx, id, by, what, number); err != nil {
		return err
	}
	return changed(ctx, tx)
}

// siteSets numbers the sets of categories of a pack.
type siteSets struct {
	numbers map[string]int
	fresh   []string
}

func (s *siteSets) number(set string) int {
	n, ok := s.numbers[set]
	if !ok {
		n = len(s.numbers)
		s.numbers[set] = n
		s.fresh = append(s.fresh, set)
	}
	return n
}

func (s *siteSets) keep(ctx context.Context, tx pgx.Tx, id uuid.UUID) error {
	_, err := tx.Exec(ctx, `insert into pack_sets (pack_id, id, categories) select $1, $2 + n - 1, set from unnest($3::text[]) with ordinality as f(set, n)`,
		id, len(s.numbers)-len(s.fresh), s.fresh)
	return err
}

// takeSites stores the sites of a file as the state after the latest, and fills in the state's counts.
func takeSites(ctx context.Context, tx pgx.Tx, before catalogue.Pack, file *packfile.Reader, how catalogue.Taking) (state catalogue.State, err error) {
	state.Number = 1
	if before.Latest != nil {
		state.Number = before.Latest.Number + 1
		state.Sites = before.Latest.Sites
	}
	sets := &siteSets{numbers: map[string]int{}}
	rows, err := tx.Query(ctx, `select categories, id from pack_sets where pack_id = $1`, before.ID)
	if err != nil {
		return state, err
	}
	var set string
	var n int
	if _, err := pgx.ForEachRow(rows, []any{&set, &n}, func() error { sets.numbers[set] = n; return nil }); err != nil {
		return state, err
	}
	if before.Latest == nil {
		err = firstSites(ctx, tx, before.ID, file, how, sets, &state)
	} else {
		err = laterSites(ctx, tx, before.ID, file, how, sets, &state)
	}
	if err == nil {
		err = sets.keep(ctx, tx, before.ID)
	}
	if err == nil && state.Sites != file.Sites {
		err = &catalogue.RefusedError{Msg: fmt.Sprintf("There would be %d sites, and the pack says %d", state.Sites, file.Sites)}
	}
	return state, err
}

// firstSites fills a new partition: it is indexed after the rows are written, and invisible until it is
// attached.
func firstSites(ctx context.Context, tx pgx.Tx, id uuid.UUID, file *packfile.Reader, how catalogue.Taking, sets *siteSets, state *catalogue.State) error {
	name := sitesOf(id)
	_, err := tx.Exec(ctx, `drop table if exists `+name+`;
		create table `+name+` (like pack_sites, constraint alone check (pack_id = '`+id.String()+`'));
		create index on `+name+` (gone) where gone is not null`)
	if err != nil {
		return err
	}
	var site int64
	if err := tx.QueryRow(ctx, `select setval('pack_site_ids', nextval('pack_site_ids') + $1)`, file.Sites).Scan(&site); err != nil {
		return err
	}
	site -= file.Sites
	head := id.String() + "\t"
	err = copySites(ctx, tx, `copy `+name+` (pack_id, id, since, plain, entry, set) from stdin`, file, how, func(to []byte, s packfile.Site) []byte {
		site++
		to = append(strconv.AppendInt(append(to, head...), site, 10), "\t1\t"...)
		return rowTail(to, s, sets)
	})
	if err != nil {
		return err
	}
	state.Sites, state.Added = file.Sites, file.Sites
	_, err = tx.Exec(ctx, `set local maintenance_work_mem = '128MB';
		create unique index on `+name+` (entry, since);
		create index on `+name+` (set, entry);
		create index on `+name+` using brin (since) with (pages_per_range = 32, autosummarize = on);
		analyze `+name+`;
		alter table pack_sites attach partition `+name+` for values in ('`+id.String()+`');
		alter table `+name+` drop constraint alone`)
	return err
}

// rowTail appends the columns of the site itself.
func rowTail(to []byte, s packfile.Site, sets *siteSets) []byte {
	to = appendText(append(to, boolean(s.Plain), '\t'), s.Entry)
	return strconv.AppendInt(append(to, '\t'), int64(sets.number(s.Categories)), 10)
}

// laterSites stores the differences from the latest state.
func laterSites(ctx context.Context, tx pgx.Tx, id uuid.UUID, file *packfile.Reader, how catalogue.Taking, sets *siteSets, state *catalogue.State) error {
	_, err := tx.Exec(ctx, `create temporary table incoming_sites (plain boolean, entry text collate "C", set integer, goes boolean) on commit drop`)
	if err != nil {
		return err
	}
	err = copySites(ctx, tx, `copy incoming_sites (plain, entry, set, goes) from stdin`, file, how, func(to []byte, s packfile.Site) []byte {
		goes := file.Base > 0 && s.Categories == ""
		if goes {
			return append(appendText(append(to, boolean(s.Plain), '\t'), s.Entry), "\t-1\tt"...)
		}
		return append(rowTail(to, s, sets), "\tf"...)
	})
	if err != nil {
		return err
	}
	if _, err := tx.Exec(ctx, `analyze incoming_sites`); err != nil {
		return err
	}
	name := sitesOf(id)
	goes := `not exists (select from incoming_sites i where i.entry = c.entry)`
	if file.Base > 0 {
		goes = `exists (select from incoming_sites i where i.entry = c.entry and i.goes)`
		var lost string
		err := tx.QueryRow(ctx, `select coalesce((select i.entry from incoming_sites i where i.goes and not exists
			(select from `+name+` c where c.entry = i.entry and c.gone is null) limit 1), '')`).Scan(&lost)
		if err != nil {
			return err
		}
		if lost != "" {
			return &catalogue.RefusedError{Msg: fmt.Sprintf("It takes away %s, which is not there", lost)}
		}
	}
	gone, err := tx.Exec(ctx, `update `+name+` c set gone = $1 where c.gone is null and `+goes, state.Number)
	if err != nil {
		return err
	}
	moved, err := tx.Exec(ctx, `update `+name+` c set gone = $1 from incoming_sites i where c.gone is null and i.entry = c.entry and not i.goes and i.set <> c.set`, state.Number)
	if err != nil {
		return err
	}
	came, err := tx.Exec(ctx, `insert into `+name+` (pack_id, id, since, plain, entry, set)
		select $1, nextval('pack_site_ids'), $2, i.plain, i.entry, i.set from incoming_sites i
		where not i.goes and not exists (select from `+name+` c where c.entry = i.entry and c.gone is null) order by i.entry`, id, state.Number)
	if err != nil {
		return err
	}
	state.Gone, state.Moved = gone.RowsAffected(), moved.RowsAffected()
	state.Added = came.RowsAffected() - state.Moved
	state.Sites += state.Added - state.Gone
	return nil
}

// copySites sends the sites of a file in COPY's text format, as they are read.
func copySites(ctx context.Context, tx pgx.Tx, into string, file *packfile.Reader, how catalogue.Taking, row func([]byte, packfile.Site) []byte) error {
	return copyText(ctx, tx, into, func(out *bufio.Writer) error {
		var line []byte
		count := int64(0)
		return file.EachSite(func(s packfile.Site) error {
			if count++; how.Sites != nil && count%10_000 == 0 {
				how.Sites(count)
			}
			line = append(row(line[:0], s), '\n')
			_, err := out.Write(line)
			return err
		})
	})
}

// Accept implements [catalogue.Store].
func (s *Store) Accept(ctx context.Context, id uuid.UUID, number int64, by access.Actor) (catalogue.Pack, error) {
	return s.settlePack(ctx, id, by, func(tx pgx.Tx, before catalogue.Pack) error {
		if before.Waiting == nil || before.Waiting.Number != number {
			return revision.ErrStale
		}
		return putInForce(ctx, tx, id, by.Name(), catalogue.EventInForce, number, before.InForce)
	})
}

// Refuse implements [catalogue.Store].
func (s *Store) Refuse(ctx context.Context, id uuid.UUID, number int64, by access.Actor) (catalogue.Pack, error) {
	return s.settlePack(ctx, id, by, func(tx pgx.Tx, before catalogue.Pack) error {
		if before.Waiting == nil || before.Waiting.Number != number {
			return revision.ErrStale
		}
		if _, err := tx.Exec(ctx, `update packs set held = 0 where id = $1`, id); err != nil {
			return err
		}
		return happened(ctx, tx, id, by.Name(), catalogue.EventRefused, number)
	})
}

// Undo implements [catalogue.Store].
func (s *Store) Undo(ctx context.Context, id uuid.UUID, by access.Actor) (catalogue.Pack, error) {
	return s.settlePack(ctx, id, by, func(tx pgx.Tx, before catalogue.Pack) error {
		if before.Before == 0 {
			return &catalogue.RefusedError{Msg: "There is no state to go back to"}
		}
		return putInForce(ctx, tx, id, by.Name(), catalogue.EventUndone, before.Before, before.InForce)
	})
}

func (s *Store) settlePack(ctx context.Context, id uuid.UUID, by access.Actor, do func(tx pgx.Tx, before catalogue.Pack) error) (after catalogue.Pack, err error) {
	err = s.as(ctx, by, access.EditPacks, func(tx pgx.Tx) error {
		before, err := lockPack(ctx, tx, id)
		if err != nil {
			return err
		}
		if err := do(tx, before); err != nil {
			return err
		}
		after, err = pack(ctx, tx, id)
		return err
	})
	return after, err
}

// States implements [catalogue.Store].
func (s *Store) States(ctx context.Context, id uuid.UUID) ([]catalogue.State, error) {
	rows, err := s.pool.Query(ctx, `select `+stateColumns+` from pack_states where pack_id = $1 order by number desc`, id)
	return all(rows, err, pgx.RowToStructByPos[catalogue.State])
}

// Events implements [catalogue.Store].
func (s *Store) Events(ctx context.Context, id uuid.UUID) ([]catalogue.Event, error) {
	rows, err := s.pool.Query(ctx, `select e.at, e.by, e.what, e.number, v.version from pack_events e
		join pack_states v on v.pack_id = e.pack_id and v.number = e.number where e.pack_id = $1 order by e.id desc`, id)
	return all(rows, err, pgx.RowToStructByPos[catalogue.Event])
}

// between is the condition for sites c that hold at exactly one of the states $2 and $3, with $2 the lesser: only rows that began or ended
// between the two are read.
const between = `c.pack_id = $1 and (c.since > $2 and c.since <= $3 and (c.gone is null or c.gone > $3) or c.gone > $2 and c.gone <= $3 and c.since <= $2)`

// Differences implements [catalogue.Store].
func (s *Store) Differences(ctx context.Context, id uuid.UUID, from, to int64, after string, limit int) (found []catalogue.Difference, totals catalogue.Totals, err error) {
	swapped := from > to
	if swapped {
		from, to = to, from
	}
	pairs := `from (select c.entry, max(t.categories) filter (where c.gone <= $3) as before, max(t.categories) filter (where c.since > $2) as after
		from pack_sites c join pack_sets t on t.pack_id = c.pack_id and t.id = c.set where ` + between + ` group by c.entry) d
		where d.before is distinct from d.after`
	err = s.pool.QueryRow(ctx, `select count(*) filter (where before is null), count(*) filter (where before <> after), count(*) filter (where after is null) `+pairs,
		id, from, to).Scan(&totals.Added, &totals.Moved, &totals.Gone)
	if err != nil {
		return nil, totals, ours(err)
	}
	rows, err := s.pool.Query(ctx, `select entry, coalesce(before, ''), coalesce(after, '') `+pairs+` and entry > $4 order by entry limit $5`, id, from, to, after, limit)
	found, err = all(rows, err, pgx.RowToStructByPos[catalogue.Difference])
	if swapped {
		totals.Added, totals.Gone = totals.Gone, totals.Added
		for i := range found {
			found[i].Before, found[i].After = found[i].After, found[i].Before
		}
	}
	return found, totals, err
}

// EachDifference implements [catalogue.Store]. Precondition: from is the lesser.
func (s *Store) EachDifference(ctx context.Context, id uuid.UUID, from, to int64, gone func(int64) error, came func(catalogue.Site, bool) error) error {
	rows, err := s.pool.Query(ctx, `select c.id, c.entry, c.plain, t.categories, c.since > $2 from pack_sites c
		join pack_sets t on t.pack_id = c.pack_id and t.id = c.set where `+between, id, from, to)
	if err != nil {
		return ours(err)
	}
	site := catalogue.Site{Pack: id}
	var plain, fresh bool
	_, err = pgx.ForEachRow(rows, []any{&site.ID, &site.Entry, &plain, &site.Categories, &fresh}, func() error {
		if fresh {
			return came(site, plain)
		}
		return gone(site.ID)
	})
	return ours(err)
}

// Sites implements [catalogue.Store].
func (s *Store) Sites(ctx context.Context, categories []string, text, after string, limit int) ([]catalogue.Site, error) {
	rows, err := s.pool.Query(ctx, `select c.id, c.entry, t.categories, c.pack_id from pack_sites c
		join packs p on p.id = c.pack_id
		join pack_sets t on t.pack_id = c.pack_id and t.id = c.set
		where ($1::text[] is null or string_to_array(t.categories, ' ') && $1) and `+holds("p.in_force")+`
			and ($2 = '' or c.entry like $2) and c.entry > $3 order by c.entry, p.rank limit $4`, categories, containing(text), after, limit)
	return all(rows, err, pgx.RowToStructByPos[catalogue.Site])
}

// Stated implements [catalogue.Store].
func (s *Store) Stated(ctx context.Context, entries []string) ([]catalogue.Stated, error) {
	rows, err := s.pool.Query(ctx, `select c.pack_id, c.entry, t.categories, c.id, c.since, coalesce(c.gone, 0) from pack_sites c
		join pack_sets t on t.pack_id = c.pack_id and t.id = c.set where c.entry = any($1) order by c.since`, entries)
	return all(rows, err, pgx.RowToStructByPos[catalogue.Stated])
}

// Keys implements [catalogue.Store].
func (s *Store) Keys(ctx context.Context) ([]catalogue.Key, error) {
	rows, err := s.pool.Query(ctx, `select key, name, added_at, added_by from pack_keys order by added_at`)
	return all(rows, err, pgx.RowToStructByPos[catalogue.Key])
}

// Trust implements [catalogue.Store].
func (s *Store) Trust(ctx context.Context, k catalogue.Key, by access.Actor) error {
	return s.as(ctx, by, access.TrustKeys, func(tx pgx.Tx) error {
		_, err := tx.Exec(ctx, `insert into pack_keys (key, name, added_by) values ($1, $2, $3) on conflict (key) do update set name = $2`, k.Key, k.Name, by.Name())
		if err != nil {
			return err
		}
		return note(ctx, tx, audit.Event{By: by.Name(), What: audit.KeyTrusted, Name: k.Name, Detail: k.Key})
	})
}

// Distrust implements [catalogue.Store].
func (s *Store) Distrust(ctx context.Context, key string, by access.Actor) error {
	return s.as(ctx, by, access.TrustKeys, func(tx pgx.Tx) error {
		e := audit.Event{By: by.Name(), What: audit.KeyDistrusted, Detail: key}
		if err := tx.QueryRow(ctx, `delete from pack_keys where key = $1 returning name`, key).Scan(&e.Name); err != nil {
			return err
		}
		return note(ctx, tx, e)
	})
}

// CatalogueVersion implements [catalogue.Store].
func (s *Store) CatalogueVersion(ctx context.Context) (version int64, err error) {
	err = s.pool.QueryRow(ctx, `select version from catalogue`).Scan(&version)
	return version, ours(err)
}

// ReadCatalogue implements [catalogue.Store].
func (s *Store) ReadCatalogue(ctx context.Context, read func(catalogue.Reader) error) error {
	moment := pgx.TxOptions{IsoLevel: pgx.RepeatableRead, AccessMode: pgx.ReadOnly}
	return ours(pgx.BeginTxFunc(ctx, s.pool, moment, func(tx pgx.Tx) error {
		// Parallel workers would read the rows sooner, but leave no processor to those who wait for an answer meanwhile.
		if _, err := tx.Exec(ctx, `set local max_parallel_workers_per_gather = 0`); err != nil {
			return err
		}
		r := catalogueReader{tx: tx}
		if err := tx.QueryRow(ctx, `select version from catalogue`).Scan(&r.version); err != nil {
			return err
		}
		return read(r)
	}))
}

// catalogueReader implements [catalogue.Reader].
type catalogueReader struct {
	tx      pgx.Tx
	version int64
}

func (r catalogueReader) Version() int64 { return r.version }

func (r catalogueReader) Packs(ctx context.Context) ([]catalogue.Pack, error) {
	return packsWhere(ctx, r.tx, `true order by p.rank`)
}

func (r catalogueReader) Taxonomy(ctx context.Context, pack uuid.UUID, number int64) (classify.Taxonomy, error) {
	var text []byte
	if err := r.tx.QueryRow(ctx, `select taxonomy from pack_states where pack_id = $1 and number = $2`, pack, number).Scan(&text); err != nil {
		return classify.Taxonomy{}, err
	}
	return packfile.UnmarshalTaxonomy(text)
}

func (r catalogueReader) EachSite(ctx context.Context, pack uuid.UUID, number int64, sink catalogue.Sink) error {
	rows, err := r.tx.Query(ctx, `select id, categories from pack_sets where pack_id = $1`, pack)
	if err != nil {
		return err
	}
	sets := map[int]string{}
	var set int
	var categories string
	if _, err := pgx.ForEachRow(rows, []any{&set, &categories}, func() error { sets[set] = categories; return nil }); err != nil {
		return err
	}
	rows, err = r.tx.Query(ctx, `select c.id, c.entry, c.plain, c.set from `+sitesOf(pack)+` c where `+holds("$1"), number)
	if err != nil {
		return err
	}
	var id int64
	var entry string
	var plain bool
	_, err = pgx.ForEachRow(rows, []any{&id, &entry, &plain, &set}, func() error { return sink.Site(id, entry, plain, sets[set]) })
	return err
}
