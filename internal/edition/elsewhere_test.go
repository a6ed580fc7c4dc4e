package edition_test

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/require"

	"widelark/internal/catalogue"
	"widelark/internal/edition"
	"widelark/internal/parcel"
	"widelark/internal/postgres"
	"widelark/internal/revision"
)

// elsewhere follows a draft as a gate elsewhere follows what is live: by parts that travel.
type elsewhere struct {
	parts    map[parcel.Digest][]byte
	last     *parcel.Manifest
	earlier  []*parcel.Manifest
	follower *edition.Follower
}

func newElsewhere() *elsewhere {
	return &elsewhere{parts: map[parcel.Digest][]byte{}, follower: edition.NewFollower(atNoon)}
}

// Put implements [parcel.Parts].
func (e *elsewhere) Put(d parcel.Digest, packed []byte) { e.parts[d] = packed }

// Part implements [parcel.Source].
func (e *elsewhere) Part(d parcel.Digest) ([]byte, error) {
	packed, ok := e.parts[d]
	if !ok {
		return nil, fmt.Errorf("the part %s is not there", d)
	}
	return parcel.Decompress(d, packed)
}

// state returns the draft as it is now. What is made of the edition before names the same parts as what is made of nothing.
func (e *elsewhere) state(t *testing.T, store *postgres.Store) *edition.State {
	t.Helper()
	ctx := t.Context()
	now, err := store.DraftVersion(ctx)
	require.NoError(t, err)
	var m, anew *parcel.Manifest
	require.NoError(t, store.ReadDraft(ctx, now.Draft, func(draft revision.DraftReader) error {
		return store.ReadCatalogue(ctx, func(packs catalogue.Reader) error {
			if m, err = parcel.Make(ctx, draft, packs, 1, "UTC", e.last, e, e); err != nil {
				return err
			}
			anew, err = parcel.Make(ctx, draft, packs, 1, "UTC", nil, nil, newElsewhere())
			return err
		})
	}))
	require.Equal(t, anew, m)
	read := &parcel.Edition{Manifest: m, Source: e, Earlier: e.earlier}
	state, err := e.follower.Follow(ctx, read, read.Catalogue(), 0, "UTC")
	require.NoError(t, err)
	e.last, e.earlier = m, append(e.earlier, m)
	return state
}
