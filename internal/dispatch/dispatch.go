// Package dispatch is the service's side of gates elsewhere: it enrols them, knows them by their keys, makes editions for them, and tells them what has changed.
//
// From: what is live, and standing facts.
// To: signed editions, and messages, which package outpost takes.
package dispatch

import (
	"context"
	"crypto/ed25519"
	"errors"
	"fmt"
	"log/slog"
	"sync/atomic"
	"time"

	"github.com/google/uuid"

	"widelark/internal/access"
	"widelark/internal/catalogue"
	"widelark/internal/gate"
	"widelark/internal/parcel"
	"widelark/internal/revision"
	"widelark/internal/secret"
	"widelark/internal/standing"
	"widelark/internal/turn"
)

// Store is what dispatch keeps things in.
type Store interface {
	gate.Authorities
	DraftVersion(ctx context.Context) (revision.Now, error)
	ReadDraft(ctx context.Context, version int64, read func(revision.DraftReader) error) error
	ReadCatalogue(ctx context.Context, read func(catalogue.Reader) error) error
	DatabaseTime(ctx context.Context) (time.Time, error)

	// SignedEdition returns an edition by its number; 0 for the last. The error is [revision.ErrNotFound] where it is not there.
	SignedEdition(ctx context.Context, number int64) (parcel.Signed, error)
	SignedEditions(ctx context.Context) ([]parcel.Signed, error) // the last first

	// AddEdition adds an edition with its parts, which is made of the one with the number before. Where the last edition is of the same revision, catalogue,
	// directories and zone, it adds nothing and returns that one; where it is another one than before, the error is [revision.ErrStale].
	AddEdition(ctx context.Context, before int64, m parcel.Manifest, parts map[parcel.Digest][]byte, sign func(*parcel.Manifest) (parcel.Signed, error), by access.Actor) (parcel.Signed, error)

	// Parts returns compressed parts. Those that are not there are left out.
	Parts(ctx context.Context, wanted []parcel.Digest) (map[parcel.Digest][]byte, error)

	// KeepEditions removes editions before a number, and parts that are none of keep, unless there is an edition later than last.
	KeepEditions(ctx context.Context, from, last int64, keep []parcel.Digest, by access.Actor) error

	AddEnrolment(ctx context.Context, e gate.Enrolment, by access.Actor) (gate.Enrolment, error)
	Enrol(ctx context.Context, hash []byte, g gate.Enrolled) (gate.Enrolled, error)
	Enrolled(ctx context.Context, id uuid.UUID) (gate.Enrolled, error)
	AllEnrolled(ctx context.Context) ([]gate.Enrolled, error)
	Retire(ctx context.Context, name string, by access.Actor) error
	SigningKey(ctx context.Context, offered func() (public, sealed []byte, err error)) (public, sealed []byte, err error)
}

// Dispatch serves gates elsewhere. It is safe for concurrent use.
type Dispatch struct {
	Store  Store
	Facts  *standing.Source
	Secret *secret.Box // nil: gates elsewhere cannot be served
	Zone   string      // the organisation's
	Now    func() time.Time
	Log    *slog.Logger

	making  turn.Lock                          // one edition at a time
	made    atomic.Pointer[madeEdition]        // the last
	signing atomic.Pointer[ed25519.PrivateKey] // once it was read
	looking turn.Lock                          // for latest
	latest  *latest
}

// ErrNoSecret says that the service has no secret to seal its signing key with.
var ErrNoSecret = errors.New("the service has no secret to seal its signing key with: start it with --secret-file")

const signingPurpose = "signing key of gates elsewhere"

// key returns the key that signs what gates run.
func (d *Dispatch) key(ctx context.Context) (ed25519.PrivateKey, error) {
	if d.Secret == nil {
		return nil, ErrNoSecret
	}
	if known := d.signing.Load(); known != nil {
		return *known, nil
	}
	_, sealed, err := d.Store.SigningKey(ctx, func() (public, sealed []byte, err error) {
		made, key, err := ed25519.GenerateKey(nil)
		return made, d.Secret.Seal(signingPurpose, key.Seed()), err
	})
	if err != nil {
		return nil, err
	}
	seed, err := d.Secret.Open(signingPurpose, sealed)
	if err != nil {
		return nil, fmt.Errorf("the signing key of gates elsewhere: %w", err)
	}
	key := ed25519.NewKeyFromSeed(seed)
	d.signing.Store(&key)
	return key, nil
}

// madeEdition is an edition with what it was made of.
type madeEdition struct {
	parcel.Signed
	revision, catalogue, directories int64
}

// madeOf returns an edition with what its manifest says.
func madeOf(m *parcel.Manifest, e parcel.Signed) *madeEdition {
	return &madeEdition{e, m.Revision, m.Catalogue, m.Directories}
}

// isOf reports whether an edition is made of what is in force now.
func (m *madeEdition) isOf(now revision.Now) bool {
	return m.revision == now.Live.Number && m.catalogue == now.Catalogue && m.directories == now.Directories
}

// keptEditions is how many editions stay, with their parts: a gate that is fetching one may go on.
const keptEditions = 3

// Live returns the edition of what is live. It makes the edition unless there is one.
func (d *Dispatch) Live(ctx context.Context) (parcel.Signed, error) {
	for {
		e, err := d.live(ctx)
		if !errors.Is(err, revision.ErrStale) { // another service made one meanwhile
			return e, err
		}
	}
}

func (d *Dispatch) live(ctx context.Context) (parcel.Signed, error) {
	if err := d.making.Lock(ctx); err != nil {
		return parcel.Signed{}, err
	}
	defer d.making.Unlock()
	key, err := d.key(ctx)
	if err != nil {
		return parcel.Signed{}, err
	}
	now, err := d.Store.DraftVersion(ctx)
	if err != nil {
		return parcel.Signed{}, err
	}
	if made := d.made.Load(); made != nil && made.isOf(now) {
		return made.Signed, nil
	}
	last, err := d.Store.SignedEdition(ctx, 0)
	if err != nil && !errors.Is(err, revision.ErrNotFound) {
		return last, err
	}
	var before *parcel.Manifest
	if err == nil {
		if before, err = last.Open(key.Public().(ed25519.PublicKey)); err != nil {
			d.Log.WarnContext(ctx, "the last edition for gates elsewhere was signed by another key; one is made from nothing", "number", last.Number)
			before = nil
		} else if made := madeOf(before, last); made.isOf(now) && before.Zone == d.Zone {
			d.made.Store(made)
			return last, nil
		}
	}
	begin := time.Now()
	stored := source{ctx, d.Store}
	made := parts{}
	var m *parcel.Manifest
	err = d.Store.ReadDraft(ctx, now.Live.Version, func(draft revision.DraftReader) error {
		return d.Store.ReadCatalogue(ctx, func(packs catalogue.Reader) (err error) {
			m, err = parcel.Make(ctx, draft, packs, now.Live.Number, d.Zone, before, stored, made)
			return err
		})
	})
	if err != nil {
		return parcel.Signed{}, err
	}
	e, err := d.Store.AddEdition(ctx, last.Number, *m, made, func(m *parcel.Manifest) (parcel.Signed, error) { return parcel.Sign(m, key) }, access.Recorder)
	if err != nil {
		return e, err
	}
	if made := madeOf(m, e); made.isOf(now) {
		d.made.Store(made)
	}
	d.Log.InfoContext(ctx, "an edition for gates elsewhere was made", "number", e.Number, "revision", m.Revision, "parts", len(made), "ms", time.Since(begin).Milliseconds())
	if err := d.tidy(ctx, key.Public().(ed25519.PublicKey)); err != nil {
		d.Log.WarnContext(ctx, "editions of before could not be removed; it is tried again with the next", "error", err)
	}
	return e, nil
}

// tidy removes editions that no gate asks for any more.
func (d *Dispatch) tidy(ctx context.Context, key ed25519.PublicKey) error {
	all, err := d.Store.SignedEditions(ctx)
	if err != nil || len(all) <= keptEditions {
		return err
	}
	from := all[keptEditions-1].Number
	var keep []parcel.Digest
	for _, e := range all[:keptEditions] {
		m, err := e.Open(key)
		if err != nil {
			continue
		}
		named, err := m.Parts(source{ctx, d.Store})
		if err != nil {
			return err
		}
		keep = append(keep, named...)
	}
	return d.Store.KeepEditions(ctx, from, all[0].Number, keep, access.Recorder)
}

// source has the parts that the store has. It implements [parcel.Source].
type source struct {
	ctx   context.Context
	store Store
}

// Part implements [parcel.Source].
func (s source) Part(of parcel.Digest) ([]byte, error) {
	found, err := s.store.Parts(s.ctx, []parcel.Digest{of})
	if err != nil {
		return nil, err
	}
	packed, ok := found[of]
	if !ok {
		return nil, fmt.Errorf("the part %s: %w", of, revision.ErrNotFound)
	}
	return parcel.Decompress(of, packed)
}

// parts gathers what an edition is made of. It implements [parcel.Parts].
type parts map[parcel.Digest][]byte

// Put implements [parcel.Parts].
func (p parts) Put(of parcel.Digest, packed []byte) { p[of] = packed }
