package directory

import "math/bits"

// Table maps ids to values. Nearly all ids are UUIDs, which it keeps with their values in a hash table with open addressing: a look-up reads one
// place in memory and follows no pointer to a key's text. Concurrent reads are safe while nothing is put.
type Table[V any] struct {
	uuids  []slot[V] // Invariant: the length is a power of two, and at least a third of the slots are empty
	others map[string]*V
}

type slot[V any] struct {
	key   uuidKey // zero for an empty slot
	value V
}

// uuidKey is the text of a UUID as written, without its hyphens (RFC 9562, section 4). It has four fields, not an array, so that it is passed in
// registers.
type uuidKey struct{ a, b, c, d uint64 }

// NewTable returns an empty table with room for n ids.
func NewTable[V any](n int) Table[V] {
	return Table[V]{make([]slot[V], 2<<bits.Len(uint(n+n/2)/2)), map[string]*V{}}
}

// Put sets the value of an id. Precondition: the table has room for the id.
func (x *Table[V]) Put(id string, value V) {
	if key := keyOf(id); key != (uuidKey{}) {
		*x.slot(key, key.hash()) = slot[V]{key, value}
	} else {
		x.others[id] = &value
	}
}

// Place is the place of an id in a table.
type Place struct {
	key    uuidKey // zero if the id is not a UUID
	at     uint64  // index of the first slot to look at
	loaded uint64  // keeps the load in [Table.Place] alive; never read
}

// Place returns the place of an id. It loads the slot that [Table.At] will read, so that the processor fetches it while the caller goes on.
func (x *Table[V]) Place(id string) Place {
	key := keyOf(id)
	at := key.hash() & uint64(len(x.uuids)-1)
	return Place{key, at, x.uuids[at].key.a}
}

// At returns the value of an id, given its place; nil if the id is unknown. The caller must not change the value.
func (x *Table[V]) At(id string, p Place) *V {
	if p.key == (uuidKey{}) {
		return x.other(id)
	}
	if s := x.slot(p.key, p.at); s.key == p.key {
		return &s.value
	}
	return nil
}

func (x *Table[V]) other(id string) *V {
	if id == "" {
		return nil
	}
	return x.others[id]
}

// Find returns the value of an id; nil if the id is unknown. The caller must not change the value.
func (x *Table[V]) Find(id string) *V { return x.At(id, x.Place(id)) }

// slot returns the slot of a key, or the empty slot where the key would be put.
func (x *Table[V]) slot(key uuidKey, at uint64) *slot[V] {
	for ; ; at++ {
		if s := &x.uuids[at&uint64(len(x.uuids)-1)]; s.key == key || s.key == (uuidKey{}) {
			return s
		}
	}
}

// hash spreads keys over the slots. UUIDs made one after the other differ in a few bits (RFC 9562, section 5.7); a product folded onto itself
// depends on all bits.
func (k uuidKey) hash() uint64 {
	fold := func(a, b uint64) uint64 {
		high, low := bits.Mul64(a^0x9e3779b97f4a7c15, b^0xd1342543de82ef95)
		return high ^ low
	}
	return fold(fold(k.a, k.b), fold(k.c, k.d))
}

// keyOf returns the key of a text that has the form of a UUID, and zero for any other text.
func keyOf(text string) uuidKey {
	if len(text) != 36 || text[8] != '-' || text[13] != '-' || text[18] != '-' || text[23] != '-' {
		return uuidKey{}
	}
	return uuidKey{
		uint64(four(text[0:4])) | uint64(four(text[4:8]))<<32, uint64(four(text[9:13])) | uint64(four(text[14:18]))<<32,
		uint64(four(text[19:23])) | uint64(four(text[24:28]))<<32, uint64(four(text[28:32])) | uint64(four(text[32:36]))<<32,
	}
}

// four returns four bytes as a number, written so that the compiler makes one load of the four.
func four(text string) uint32 {
	_ = text[3]
	return uint32(text[0]) | uint32(text[1])<<8 | uint32(text[2])<<16 | uint32(text[3])<<24
}
