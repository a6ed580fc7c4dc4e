// Package parcel takes a live edition apart into parts that are known by their digests, so that only parts that changed travel to gates elsewhere and are
// stored there; and it reads an edition from such parts. A manifest names the parts and is signed.
//
// From: the draft at a version, and the catalogue.
// To: parts and a signed manifest, and from those the readers that package edition compiles.
package parcel

import (
	"bytes"
	"context"
	"crypto/ed25519"
	"crypto/sha256"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"github.com/google/uuid"

	"widelark/core/pattern"
	"widelark/internal/catalogue"
	"widelark/internal/revision"
)

// Manifest names the parts of an edition.
type Manifest struct {
	Number      int64     `json:"number"` // rises with each edition
	Revision    int64     `json:"revision"`
	Version     int64     `json:"version"` // of the draft, that the revision is
	Catalogue   int64     `json:"catalogue"`
	Directories int64     `json:"directories,omitempty"`
	Zone        string    `json:"zone"` // the organisation's
	MadeAt      time.Time `json:"madeAt"`

	Classified int64  `json:"classified"` // see [revision.Draft]
	Objects    Digest `json:"objects"`    // a table
	Schedules  Digest `json:"schedules"`
	Local      Digest `json:"local"` // corrections, categories of our own, scorecards
	Lists      []List `json:"lists"`
	Packs      []Pack `json:"packs"` // by rank
}

// List is a list of an edition.
type List struct {
	ID      uuid.UUID `json:"id"`
	Name    string    `json:"name"`
	Version int64     `json:"version"`
	Count   int64     `json:"count"`
	Entries Digest    `json:"entries"` // a table
}

// Pack is a pack of an edition, at one of its states.
type Pack struct {
	ID       uuid.UUID `json:"id"`
	Name     string    `json:"name"`
	State    int64     `json:"state"`
	Version  int64     `json:"version"`
	Count    int64     `json:"count"`
	Taxonomy Digest    `json:"taxonomy"`
	Sites    Digest    `json:"sites"` // a table
}

// tables returns the digests of the parts that name other parts.
func (m *Manifest) tables() []Digest {
	all := []Digest{m.Objects}
	for _, l := range m.Lists {
		all = append(all, l.Entries)
	}
	for _, p := range m.Packs {
		all = append(all, p.Sites)
	}
	return all
}

// plain returns the digests of the parts that stand by themselves.
func (m *Manifest) plain() []Digest {
	all := []Digest{m.Schedules, m.Local}
	for _, p := range m.Packs {
		all = append(all, p.Taxonomy)
	}
	return all
}

// Layers is how many there are of [Manifest.Layer].
const Layers = 3

// Layer returns the digests of the parts that are named by the manifest itself (0), by the tables (1), and by their leaves (2). The parts of the layers before must
// be there.
func (m *Manifest) Layer(n int, from Source) (all []Digest, err error) {
	switch all = m.tables(); n {
	case 0:
		return append(all, m.plain()...), nil
	case 2:
		if all, err = m.Layer(1, from); err != nil {
			return nil, err
		}
	}
	var named []Digest
	for _, d := range all {
		blocks, err := blocksOf(from, d)
		if err != nil {
			return nil, err
		}
		for _, b := range blocks {
			named = append(named, b.digest)
		}
	}
	return named, nil
}

// Parts returns the digests of all parts of an edition. All but the last layer must be there.
func (m *Manifest) Parts(from Source) (all []Digest, err error) {
	for n := range Layers {
		layer, err := m.Layer(n, from)
		if err != nil {
			return nil, err
		}
		all = append(all, layer...)
	}
	return all, nil
}

// Signed is a manifest as it travels.
type Signed struct {
	Number    int64
	Manifest  []byte // JSON
	Signature []byte // Ed25519 (RFC 8032)
}

// signedFor separates signatures of manifests from others that the same key makes.
const signedFor = "widelark edition\n"

// Sign returns a manifest with its signature.
func Sign(m *Manifest, key ed25519.PrivateKey) (Signed, error) {
	text, err := json.Marshal(m)
	return Signed{m.Number, text, ed25519.Sign(key, append([]byte(signedFor), text...))}, err
}

// ErrSignature is the error of something that another key has signed, or that was changed since.
var ErrSignature = errors.New("the signature is not that of the service that this gate was enrolled at")

// Open returns the manifest if its signature is that of a key.
func (s *Signed) Open(key ed25519.PublicKey) (*Manifest, error) {
	if !ed25519.Verify(key, append([]byte(signedFor), s.Manifest...), s.Signature) {
		return nil, ErrSignature
	}
	m := &Manifest{}
	err := json.Unmarshal(s.Manifest, m)
	if err == nil && m.Number != s.Number {
		err = ErrSignature
	}
	return m, err
}

// Digest is what two gates compare to find out whether they run the same.
func (s *Signed) Digest() Digest { return sha256.Sum256(s.Manifest) }

// Source has the bytes of parts by their digests.
type Source interface {
	Part(d Digest) ([]byte, error)
}

// blocksOf reads a part that names others.
func blocksOf(from Source, d Digest) ([]block, error) {
	part, err := from.Part(d)
	if err != nil {
		return nil, err
	}
	return decodeBlocks(part)
}

// table returns the blocks of a table.
func table(from Source, d Digest) (blocks []block, err error) {
	leaves, err := blocksOf(from, d)
	if err != nil {
		return nil, err
	}
	for _, leaf := range leaves {
		some, err := blocksOf(from, leaf.digest)
		if err != nil {
			return nil, err
		}
		blocks = append(blocks, some...)
	}
	return blocks, nil
}

// Parts takes parts. Those that it has already stay as they are.
type Parts interface {
	Put(d Digest, packed []byte)
}

// maker makes the parts of one edition.
type maker struct {
	parts  Parts
	before *Manifest
	from   Source // of the parts of before
}

// Make makes an edition of a live revision, its number and time left out. What did not change since an edition before, whose tables from has, is not read again.
func Make(ctx context.Context, draft revision.DraftReader, packs catalogue.Reader, live int64, zone string, before *Manifest, from Source, parts Parts) (*Manifest, error) {
	if before == nil {
		before = &Manifest{}
	}
	k := maker{parts, before, from}
	d, err := draft.Draft(ctx)
	if err != nil {
		return nil, err
	}
	m := &Manifest{Revision: live, Version: d.Version, Catalogue: packs.Version(), Directories: d.Directories, Zone: zone, Classified: d.Classified}
	if m.Objects, err = k.objects(ctx, draft); err != nil {
		return nil, err
	}
	schedules, err := draft.Schedules(ctx)
	if err == nil {
		m.Schedules, err = k.json(schedules)
	}
	if err != nil {
		return nil, err
	}
	said, err := draft.Local(ctx)
	if err == nil {
		m.Local, err = k.json(toLocal(said))
	}
	if err != nil {
		return nil, err
	}
	for _, l := range d.Lists {
		made, err := k.list(ctx, draft, l)
		if err != nil {
			return nil, err
		}
		m.Lists = append(m.Lists, made)
	}
	all, err := packs.Packs(ctx)
	if err != nil {
		return nil, err
	}
	for _, p := range all {
		if p.InForce == nil {
			continue
		}
		made, err := k.pack(ctx, packs, p)
		if err != nil {
			return nil, err
		}
		m.Packs = append(m.Packs, made)
	}
	return m, nil
}

func (k *maker) put(part []byte) Digest {
	d, packed := Compress(part)
	k.parts.Put(d, packed)
	return d
}

func (k *maker) json(of any) (Digest, error) {
	part, err := json.Marshal(of)
	return k.put(part), err
}

// rows makes a table of rows in any order.
func (k *maker) rows(rows []row) Digest {
	sortRows(rows)
	return k.put(encodeTable(split(rows, k.put), k.put))
}

// local is [revision.Local] as it travels.
type local struct {
	Corrections []correction
	Own         []revision.OwnCategory
	Scorecards  []revision.Scorecard
}

type correction struct {
	ID         int64
	UID        uuid.UUID
	Entry      pattern.Entry
	Categories []string
	At         time.Time
}

func toLocal(said revision.Local) local {
	l := local{Own: said.Own, Scorecards: said.Scorecards}
	for _, c := range said.Corrections {
		l.Corrections = append(l.Corrections, correction{c.ID, c.UID, pattern.Entry{Pattern: c.Entry}, c.Categories, c.At})
	}
	return l
}

func (l local) said() revision.Local {
	said := revision.Local{Own: l.Own, Scorecards: l.Scorecards}
	for _, c := range l.Corrections {
		said.Corrections = append(said.Corrections, revision.Correction{ID: c.ID, UID: c.UID, Entry: c.Entry.Pattern, Categories: c.Categories, At: c.At})
	}
	return said
}

// object is an object as it travels.
type object struct {
	Kind revision.Kind   `json:"kind"`
	Name string          `json:"name"`
	Body json.RawMessage `json:"body"`
}

func (k *maker) objects(ctx context.Context, draft revision.DraftReader) (Digest, error) {
	all, _, err := draft.Objects(ctx, 0)
	if err != nil {
		return Digest{}, err
	}
	rows := make([]row, len(all))
	for i, o := range all {
		data, err := json.Marshal(object{o.Kind, o.Name, o.Body})
		if err != nil {
			return Digest{}, fmt.Errorf("%s %s: %w", o.Kind, o.ID, err)
		}
		rows[i] = row{key(o.ID), data}
	}
	return k.rows(rows), nil
}

// mostAnew is how many blocks of a list are made anew one by one; where more have changed, the list is read as a whole.
const mostAnew = 64

func (k *maker) list(ctx context.Context, draft revision.DraftReader, l revision.DraftList) (List, error) {
	made := List{ID: l.ID, Name: l.Name, Version: l.Version, Count: l.EntryCount}
	for _, was := range k.before.Lists {
		if was.ID != l.ID {
			continue
		}
		if made.Entries = was.Entries; was.Version == l.Version {
			return made, nil
		}
		if blocks, err := table(k.from, was.Entries); err == nil && len(blocks) > 0 {
			digest, done, err := k.edited(ctx, draft, l.ID, blocks)
			if done || err != nil {
				made.Entries = digest
				return made, err
			}
		}
	}
	sink := &rowSink{}
	err := draft.Entries(ctx, l.ID, 0, sink)
	made.Entries = k.rows(sink.rows)
	return made, err
}

// edited makes the table of a list from the one before, by reading the blocks in which something has changed. It reports false where they are too many.
func (k *maker) edited(ctx context.Context, draft revision.DraftReader, list uuid.UUID, blocks []block) (_ Digest, done bool, err error) {
	changed := &rowSink{idsOnly: true}
	if err := draft.Entries(ctx, list, k.before.Version, changed); err != nil {
		return Digest{}, false, err
	}
	gone, err := draft.Gone(ctx, list, k.before.Version)
	if err != nil {
		return Digest{}, false, err
	}
	for _, id := range gone {
		changed.rows = append(changed.rows, row{key: numbered(id)})
	}
	touched := map[int]bool{}
	for _, r := range changed.rows {
		if touched[blockOf(blocks, r.key)] = true; len(touched) > mostAnew {
			return Digest{}, false, nil
		}
	}
	numbers := make([]int, 0, len(touched))
	for n := range touched {
		numbers = append(numbers, n)
	}
	var next []block
	kept := 0
	for _, s := range stretches(numbers) {
		if s[1] <= kept {
			continue // an earlier stretch went on through it
		}
		s[0] = max(s[0], kept)
		next = append(next, blocks[kept:s[0]]...)
		var rows []row
		for from := s[0]; ; from, s[1] = s[1], s[1]+1 {
			sink := &rowSink{}
			if err := draft.EntriesBetween(ctx, list, begin(blocks, from), begin(blocks, s[1]), sink); err != nil {
				return Digest{}, false, err
			}
			sortRows(sink.rows)
			rows = append(rows, sink.rows...)
			if s[1] == len(blocks) || len(rows) == 0 || rows[len(rows)-1].key.ends() {
				break
			} // else what ended the block is gone, and it goes on through the next
		}
		next, kept = append(next, split(rows, k.put)...), s[1]
	}
	next = append(next, blocks[kept:]...)
	return k.put(encodeTable(next, k.put)), true, nil
}

// begin returns the first id that may stand in a block, or behind the last.
func begin(blocks []block, n int) int64 {
	switch {
	case n == 0:
		return 0
	case n == len(blocks):
		return 1<<63 - 1
	}
	return blocks[n].first.number()
}

// rowSink makes rows of entries. It implements [revision.EntrySink].
type rowSink struct {
	rows    []row
	idsOnly bool
}

// The first byte of an entry's row.
const (
	rowLine     = 0 // a line of the notation follows
	rowNamed    = 1 // a host follows
	rowCarveOut = 2
	rowScope    = 4 // and above: the scope of the host
)

// Named implements [revision.EntrySink].
func (s *rowSink) Named(id int64, name string, scope pattern.Scope, carveOut bool) {
	if s.idsOnly {
		s.rows = append(s.rows, row{key: numbered(id)})
		return
	}
	data := make([]byte, 1, 1+len(name))
	data[0] = rowNamed | byte(scope)*rowScope
	if carveOut {
		data[0] |= rowCarveOut
	}
	s.rows = append(s.rows, row{numbered(id), append(data, name...)})
}

// Entry implements [revision.EntrySink].
func (s *rowSink) Entry(id int64, entry pattern.Entry) {
	if s.idsOnly {
		s.rows = append(s.rows, row{key: numbered(id)})
		return
	}
	entry.Note = "" // it decides nothing
	s.rows = append(s.rows, row{numbered(id), append([]byte{rowLine}, entry.String()...)})
}

func (k *maker) pack(ctx context.Context, packs catalogue.Reader, p catalogue.Pack) (Pack, error) {
	made := Pack{ID: p.ID, Name: p.Name, State: p.InForce.Number, Version: p.InForce.Version, Count: p.InForce.Sites}
	for _, was := range k.before.Packs {
		if was.ID == p.ID && was.State == made.State {
			made.Taxonomy, made.Sites = was.Taxonomy, was.Sites
			return made, nil
		}
	}
	taxonomy, err := packs.Taxonomy(ctx, p.ID, made.State)
	if err == nil {
		made.Taxonomy, err = k.json(taxonomy)
	}
	if err != nil {
		return made, err
	}
	sink := &siteSink{}
	err = packs.EachSite(ctx, p.ID, made.State, sink)
	made.Sites = k.rows(sink.rows)
	return made, err
}

// siteSink makes rows of sites. It implements [catalogue.Sink].
type siteSink struct{ rows []row }

// Site implements [catalogue.Sink].
func (s *siteSink) Site(id int64, entry string, plain bool, set string) error {
	var data bytes.Buffer
	data.Grow(1 + binary.MaxVarintLen16 + len(set) + len(entry))
	data.WriteByte(map[bool]byte{true: 1}[plain])
	data.Write(binary.AppendUvarint(nil, uint64(len(set))))
	data.WriteString(set)
	data.WriteString(entry)
	s.rows = append(s.rows, row{numbered(id), data.Bytes()})
	return nil
}
