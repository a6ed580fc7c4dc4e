package audit_test

import (
	"crypto/sha256"
	"slices"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"widelark/internal/audit"
)

var now = time.Date(2026, 11, 30, 12, 0, 0, 0, time.UTC)

func anEvent(t *rapid.T) audit.Event {
	text := rapid.SampledFrom([]string{"", "a", "ab", "b", "edda", "list"})
	e := audit.Event{
		At: now.Add(time.Duration(rapid.IntRange(0, 5).Draw(t, "at")) * time.Microsecond), By: text.Draw(t, "by"), What: audit.What(text.Draw(t, "what")),
		Kind: text.Draw(t, "kind"), Name: text.Draw(t, "name"), Detail: text.Draw(t, "detail"),
	}
	if rapid.Bool().Draw(t, "of an object") {
		e.Object = &uuid.UUID{rapid.Byte().Draw(t, "object")}
	}
	if rapid.Bool().Draw(t, "of a version") {
		v := rapid.Int64Range(0, 3).Draw(t, "version")
		e.Version = &v
	}
	return e
}

func sealed(events []audit.Event, key []byte) (all []audit.Sealed) {
	var before []byte
	for i := range events {
		e := events[i]
		e.ID = int64(10 + 2*i)
		before = audit.Seal(key, before, int64(i+1), &e)
		all = append(all, audit.Sealed{N: int64(i + 1), ID: e.ID, Event: &e, Seal: before, Keyed: key != nil})
	}
	return all
}

func verified(all []audit.Sealed, key []byte, kept *audit.Head) audit.Verification {
	v := audit.Verifier{Key: key, Kept: kept}
	for _, s := range all {
		v.Next(s)
	}
	return v.End()
}

// A log that is as it was written has no fault; whatever is changed of it, taken out, put in or moved is one, also where the chain is made to fit by somebody without the secret.
func TestChain(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		key := rapid.SampledFrom([][]byte{nil, []byte("a secret")}).Draw(t, "key")
		events := rapid.SliceOfN(rapid.Custom(anEvent), 1, 6).Draw(t, "events")
		all := sealed(events, key)
		whole := verified(all, key, nil)
		require.Empty(t, whole.Faults)
		assert.EqualValues(t, len(all), whole.Events)
		head, err := audit.ReadHead(whole.Head.String())
		require.NoError(t, err)
		assert.Empty(t, verified(all, key, &head).Faults)

		at := rapid.IntRange(0, len(all)-1).Draw(t, "at")
		other := anEvent(t)
		other.ID = all[at].Event.ID
		bad := slices.Clone(all)
		switch rapid.SampledFrom([]string{"change", "remove", "cut", "swap", "gone", "reseal"}).Draw(t, "how") {
		case "change":
			if same(*all[at].Event, other) {
				return
			}
			bad[at].Event = &other
		case "remove":
			if bad = slices.Delete(bad, at, at+1); at == len(bad) { // the end: only whoever kept the head knows
				assert.NotEmpty(t, verified(bad, key, &head).Faults)
				return
			}
		case "cut":
			assert.NotEmpty(t, verified(bad[:at], key, &head).Faults)
			return
		case "swap":
			to := rapid.IntRange(0, len(all)-1).Draw(t, "with")
			a, b := *bad[at].Event, *bad[to].Event
			if a.ID, b.ID = b.ID, a.ID; same(a, *bad[to].Event) {
				return
			}
			bad[at].Event, bad[to].Event = &b, &a
		case "gone":
			bad[at].Event = nil
		case "reseal": // by whoever can write the database, and has no secret
			if same(*all[at].Event, other) {
				return
			}
			changed := slices.Clone(events)
			changed[at] = other
			bad = sealed(changed, nil)
			if key == nil {
				assert.NotEmpty(t, verified(bad, key, &head).Faults, "the head that was kept")
				return
			}
			for i := range bad {
				bad[i].Keyed = rapid.Bool().Draw(t, "said to be keyed")
			}
			if !slices.ContainsFunc(bad, func(s audit.Sealed) bool { return s.Keyed }) {
				assert.NotEmpty(t, verified(bad, key, &head).Faults, "as if there had never been a secret")
				return
			}
		}
		assert.NotEmpty(t, verified(bad, key, nil).Faults)
	})
}

func same(a, b audit.Event) bool {
	return string(audit.Seal(nil, nil, 1, &a)) == string(audit.Seal(nil, nil, 1, &b))
}

// Seals do not confuse where one text ends and the next begins.
func TestSealParts(t *testing.T) {
	a := audit.Seal(nil, nil, 1, &audit.Event{By: "ab", What: "c"})
	assert.NotEqual(t, a, audit.Seal(nil, nil, 1, &audit.Event{By: "a", What: "bc"}))
	assert.NotEqual(t, a, audit.Seal([]byte("key"), nil, 1, &audit.Event{By: "ab", What: "c"}))
	assert.Len(t, a, sha256.Size)
}

func TestUnsealed(t *testing.T) {
	var v audit.Verifier
	v.Unsealed(audit.Event{ID: 3, At: now.Add(-time.Second)}, now)
	v.Unsealed(audit.Event{ID: 4, At: now.Add(-time.Hour)}, now)
	got := v.End()
	assert.EqualValues(t, 1, got.Waiting)
	assert.Equal(t, []audit.Fault{{Event: 4, Says: "it is not in the chain, though it is old: it was put in, or no service has run since"}}, got.Faults)
}

func TestReadHead(t *testing.T) {
	for _, text := range []string{"", "1", "x.00", "0." + "00", "1.00", "-1.0000000000000000000000000000000000000000000000000000000000000000"} {
		_, err := audit.ReadHead(text)
		assert.Error(t, err, text)
	}
}
