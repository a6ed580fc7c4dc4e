package parcel

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"strings"

	"github.com/google/uuid"

	"widelark/core/classify"
	"widelark/core/pattern"
	"widelark/internal/catalogue"
	"widelark/internal/revision"
)

// Edition reads an edition from its parts, as the store reads it from its tables: it implements [revision.DraftReader]; Catalogue is the other half.
type Edition struct {
	*Manifest
	Source
	Earlier []*Manifest // editions whose parts are there, too, with which this one can be compared
}

var _ revision.DraftReader = (*Edition)(nil)

// Draft implements [revision.DraftReader].
func (e *Edition) Draft(context.Context) (revision.Draft, error) {
	d := revision.Draft{Version: e.Version, Classified: e.Classified, Catalogue: e.Manifest.Catalogue, Directories: e.Directories}
	for _, l := range e.Lists {
		d.Lists = append(d.Lists, revision.DraftList{ID: l.ID, Name: l.Name, Version: l.Version, EntryCount: l.Count})
	}
	return d, nil
}

func readJSON[T any](from Source, d Digest) (read T, err error) {
	part, err := from.Part(d)
	if err == nil {
		err = json.Unmarshal(part, &read)
	}
	return read, err
}

// Local implements [revision.DraftReader].
func (e *Edition) Local(context.Context) (revision.Local, error) {
	l, err := readJSON[local](e, e.Manifest.Local)
	return l.said(), err
}

// Schedules implements [revision.DraftReader].
func (e *Edition) Schedules(context.Context) ([]revision.Schedule, error) {
	return readJSON[[]revision.Schedule](e, e.Manifest.Schedules)
}

// at returns the edition of a version; nil for 0.
func (e *Edition) at(version int64) (*Manifest, error) {
	if version == 0 {
		return nil, nil
	}
	for _, m := range append(e.Earlier, e.Manifest) {
		if m.Version == version {
			return m, nil
		}
	}
	return nil, fmt.Errorf("the edition of version %d is not here any more", version)
}

// Objects implements [revision.DraftReader].
func (e *Edition) Objects(_ context.Context, from int64) (changed []revision.Object, gone []uuid.UUID, err error) {
	was, err := e.at(from)
	if err != nil {
		return nil, nil, err
	}
	before := Digest{}
	if was != nil {
		before = was.Objects
	}
	came, went, err := e.compare(e.Manifest.Objects, before)
	if err != nil {
		return nil, nil, err
	}
	for k, data := range came {
		var o object
		if err := json.Unmarshal([]byte(data), &o); err != nil {
			return nil, nil, err
		}
		changed = append(changed, revision.Object{Meta: revision.Meta{ID: uuid.UUID(k), Name: o.Name, Version: e.Version}, Kind: o.Kind, Body: o.Body})
	}
	for k := range went {
		if _, changed := came[k]; !changed {
			gone = append(gone, uuid.UUID(k))
		}
	}
	return changed, gone, nil
}

// compare returns the rows of one table that another does not have, and the other way round. A row that changed is in both. before may be the zero Digest, for
// an empty table.
func (e *Edition) compare(now, before Digest) (came, went map[key]string, err error) {
	blocks, err := table(e, now)
	if err != nil {
		return nil, nil, err
	}
	var old []block
	if before != (Digest{}) {
		if old, err = table(e, before); err != nil {
			return nil, nil, err
		}
	}
	fresh, gone := differing(blocks, old)
	if came, err = e.gather(fresh); err != nil {
		return nil, nil, err
	}
	if went, err = e.gather(gone); err != nil {
		return nil, nil, err
	}
	for k, data := range came {
		if was, both := went[k]; both && was == data {
			delete(came, k)
			delete(went, k)
		}
	}
	return came, went, nil
}

func (e *Edition) gather(blocks []Digest) (map[key]string, error) {
	rows := map[key]string{}
	return rows, e.each(blocks, func(k key, data string) error {
		rows[k] = data
		return nil
	})
}

// each passes the rows of blocks, in order. The next blocks are read and unpacked meanwhile.
func (e *Edition) each(blocks []Digest, each func(k key, data string) error) error {
	type read struct {
		part string
		err  error
	}
	const ahead = 8
	parts, turns := make([]chan read, len(blocks)), make(chan struct{}, ahead)
	stop := make(chan struct{})
	defer close(stop)
	for i := range parts {
		parts[i] = make(chan read, 1)
	}
	go func() {
		for i, d := range blocks {
			select {
			case turns <- struct{}{}:
			case <-stop:
				return
			}
			go func() {
				part, err := e.Part(d)
				parts[i] <- read{string(part), err}
			}()
		}
	}()
	for i := range parts {
		one := <-parts[i]
		<-turns
		if one.err != nil {
			return one.err
		}
		if err := eachRow(one.part, each); err != nil {
			return err
		}
	}
	return nil
}

// list returns the table of a list in an edition; the zero Digest where it is not there.
func (m *Manifest) list(id uuid.UUID) Digest {
	for _, l := range m.Lists {
		if l.ID == id {
			return l.Entries
		}
	}
	return Digest{}
}

// Entries implements [revision.DraftReader].
func (e *Edition) Entries(_ context.Context, list uuid.UUID, from int64, sink revision.EntrySink) error {
	was, err := e.at(from)
	if err != nil {
		return err
	}
	pass := passEntry(sink)
	if was == nil {
		return e.all(e.list(list), pass)
	}
	came, _, err := e.compare(e.list(list), was.list(list))
	if err != nil {
		return err
	}
	for k, data := range came {
		if err := pass(k, strings.Clone(data)); err != nil {
			return err
		}
	}
	return nil
}

// EntriesBetween implements [revision.DraftReader].
func (e *Edition) EntriesBetween(_ context.Context, list uuid.UUID, from, until int64, sink revision.EntrySink) error {
	pass := passEntry(sink)
	return e.all(e.list(list), func(k key, data string) error {
		if id := k.number(); id < from || id >= until {
			return nil
		}
		return pass(k, data)
	})
}

// passEntry returns a function that passes the entry of a row.
func passEntry(sink revision.EntrySink) func(k key, data string) error {
	return func(k key, data string) error {
		if len(data) < 1 {
			return ErrDamaged
		}
		if flags := data[0]; flags&rowNamed != 0 {
			sink.Named(k.number(), data[1:], pattern.Scope(flags/rowScope), flags&rowCarveOut != 0)
		} else {
			sink.Entry(k.number(), pattern.Keep(strings.Clone(data[1:]))[0])
		}
		return nil
	}
}

// all passes the rows of a table.
func (e *Edition) all(of Digest, pass func(k key, data string) error) error {
	blocks, err := table(e, of)
	if err != nil {
		return err
	}
	digests := make([]Digest, len(blocks))
	for i := range blocks {
		digests[i] = blocks[i].digest
	}
	return e.each(digests, pass)
}

// Gone implements [revision.DraftReader].
func (e *Edition) Gone(_ context.Context, list uuid.UUID, from int64) ([]int64, error) {
	was, err := e.at(from)
	if err != nil || was == nil || was.list(list) == (Digest{}) {
		return nil, err
	}
	_, went, err := e.compare(e.list(list), was.list(list))
	var ids []int64
	for k := range maps.Keys(went) {
		ids = append(ids, k.number())
	}
	return ids, err
}

// Catalogue returns what reads the packs of the edition.
func (e *Edition) Catalogue() catalogue.Reader { return packReader{e} }

// packReader implements [catalogue.Reader].
type packReader struct{ e *Edition }

func (r packReader) Version() int64 { return r.e.Manifest.Catalogue }

func (r packReader) Packs(context.Context) ([]catalogue.Pack, error) {
	var all []catalogue.Pack
	for i, p := range r.e.Packs {
		all = append(all, catalogue.Pack{ID: p.ID, Name: p.Name, Rank: i + 1, InForce: &catalogue.State{Number: p.State, Version: p.Version, Sites: p.Count}})
	}
	return all, nil
}

// pack returns a pack of the edition.
func (r packReader) pack(id uuid.UUID) (p Pack) {
	for _, one := range r.e.Packs {
		if one.ID == id {
			p = one
		}
	}
	return p
}

func (r packReader) Taxonomy(_ context.Context, pack uuid.UUID, _ int64) (classify.Taxonomy, error) {
	return readJSON[classify.Taxonomy](r.e, r.pack(pack).Taxonomy)
}

func (r packReader) EachSite(_ context.Context, pack uuid.UUID, _ int64, sink catalogue.Sink) error {
	return r.e.all(r.pack(pack).Sites, func(k key, data string) error {
		if len(data) < 1 {
			return ErrDamaged
		}
		size, n := uvarint(data[1:])
		if n <= 0 || uint64(len(data)-1-n) < size {
			return ErrDamaged
		}
		set, entry := data[1+n:1+n+int(size)], data[1+n+int(size):]
		return sink.Site(k.number(), entry, data[0] == 1, set)
	})
}
