package directory

import "math/bits"

// Table finds values by ids. Nearly all ids are UUIDs; those stand with their values in a table with open addressing, so that to find one
// takes a look at one place in memory instead of following a key to its text. It is safe for concurrent use while nothing is put in.
type Table[V any] struct {
	uuids  []slot[V] // a third of them empty at least; their number is a power of two
	others map[string]*V
}

type slot[V any] struct {
	key   uuidKey // zero for an empty slot
	value V
}

// uuidKey is the text of a UUID without its hyphens (RFC 9562, section 4), as it is written. It is four fields, so that it is handed on in
// registers.
type uuidKey struct{ a, b, c, d uint64 }

// NewTable returns a table for so many ids.
func NewTable[V any](n int) Table[V] {
	return Table[V]{make([]slot[V], 2<<bits.Len(uint(n+n/2)/2)), map[string]*V{}}
}

// Put gives an id a value in place of the one that it had. Precondition: there are no more ids than the table was made for.
func (x *Table[V]) Put(id string, value V) {
	if key := keyOf(id); key != (uuidKey{}) {
		*x.slot(key, key.hash()) = slot[V]{key, value}
	} else {
		x.others[id] = &value
	}
}

// Place is where an id would stand in a table.
type Place struct {
	key     uuidKey // zero where the id is no UUID
	at      uint64
	touched uint64 // means nothing, but that it is kept keeps the read from being left out
}

// Place begins to look for an id: it has the machine fetch what [Table.At] will need, and does not wait for it.
func (x *Table[V]) Place(id string) Place {
	key := keyOf(id)
	at := key.hash() & uint64(len(x.uuids)-1)
	return Place{key, at, x.uuids[at].key.a}
}

// At returns the value of an id at its place, which the caller must not change; nil where there is none.
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

// Find returns the value of an id, which the caller must not change; nil where there is none.
func (x *Table[V]) Find(id string) *V { return x.At(id, x.Place(id)) }

// slot returns the slot of a key, or the empty one where it belongs.
func (x *Table[V]) slot(key uuidKey, at uint64) *slot[V] {
	for ; ; at++ {
		if s := &x.uuids[at&uint64(len(x.uuids)-1)]; s.key == key || s.key == (uuidKey{}) {
			return s
		}
	}
}

// hash tells keys apart. Later UUIDs differ from earlier ones in a few bits (RFC 9562, section 5.7); a product folded together depends on
// all of them.
func (k uuidKey) hash() uint64 {
	fold := func(a, b uint64) uint64 {
		high, low := bits.Mul64(a^0x9e3779b97f4a7c15, b^0xd1342543de82ef95)
		return high ^ low
	}
	return fold(fold(k.a, k.b), fold(k.c, k.d))
}

// keyOf returns the key of a text that has the form of a UUID; zero for any other.
func keyOf(text string) uuidKey {
	if len(text) != 36 || text[8] != '-' || text[13] != '-' || text[18] != '-' || text[23] != '-' {
		return uuidKey{}
	}
	return uuidKey{
		uint64(four(text[0:4])) | uint64(four(text[4:8]))<<32, uint64(four(text[9:13])) | uint64(four(text[14:18]))<<32,
		uint64(four(text[19:23])) | uint64(four(text[24:28]))<<32, uint64(four(text[28:32])) | uint64(four(text[32:36]))<<32,
	}
}

// four returns four bytes as a number, written so that the compiler makes one load of it.
func four(text string) uint32 {
	_ = text[3]
	return uint32(text[0]) | uint32(text[1])<<8 | uint32(text[2])<<16 | uint32(text[3])<<24
}
