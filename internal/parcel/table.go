package parcel

import (
	"bytes"
	"cmp"
	"encoding/binary"
	"fmt"
	"slices"
	"sort"
)

// key is what a row of a table is known by: an id of 16 bytes, or a number in the last eight.
type key [16]byte

func numbered(id int64) (k key) {
	binary.BigEndian.PutUint64(k[8:], uint64(id))
	return k
}

func (k key) number() int64 { return int64(binary.BigEndian.Uint64(k[8:])) }

// hash spreads keys evenly (the finaliser of SplitMix64).
func (k key) hash() uint64 {
	h := binary.BigEndian.Uint64(k[:8])*0x9e3779b97f4a7c15 + binary.BigEndian.Uint64(k[8:])
	h = (h ^ h>>30) * 0xbf58476d1ce4e5b9
	h = (h ^ h>>27) * 0x94d049bb133111eb
	return h ^ h>>31
}

// How many rows a block has on average, and how many blocks a leaf names. One edit sends a block, the leaf that names it, and the table that names all leaves.
const (
	rowsABlock  = 2048
	blocksALeaf = 32
)

// ends reports whether a block ends behind the row with this key, as one in rowsABlock does. It depends on nothing else, so a row that comes, changes or goes
// changes its own block alone, or joins it with the next.
func (k key) ends() bool { return k.hash()%rowsABlock == 0 }

// begins reports whether a leaf begins with the block of which this is the first key.
func (k key) begins() bool { return k.hash()/rowsABlock%blocksALeaf == 0 }

// row is one row of a table.
type row struct {
	key  key
	data []byte
}

// block is a stretch of rows, which is one part.
type block struct {
	first  key
	digest Digest
}

// The first byte of a block says how its keys are written.
const (
	wholeKeys = 0 // 16 bytes each
	numbers   = 1 // how much each number is above the one before, as an unsigned varint
)

// split cuts rows, sorted by key, into blocks, and hands each block to put.
func split(rows []row, put func(part []byte) Digest) []block {
	var blocks []block
	start := 0
	for i := range rows {
		if i+1 == len(rows) || rows[i].key.ends() {
			blocks = append(blocks, block{rows[start].key, put(encodeRows(rows[start : i+1]))})
			start = i + 1
		}
	}
	return blocks
}

func encodeRows(rows []row) []byte {
	part, last := []byte{numbers}, uint64(0)
	if slices.ContainsFunc(rows, func(r row) bool { return [8]byte(r.key[:8]) != [8]byte{} }) {
		part[0] = wholeKeys
	}
	for _, r := range rows {
		if part[0] == wholeKeys {
			part = append(part, r.key[:]...)
		} else {
			n := uint64(r.key.number())
			part, last = binary.AppendUvarint(part, n-last), n
		}
		part = binary.AppendUvarint(part, uint64(len(r.data)))
		part = append(part, r.data...)
	}
	return part
}

func sortRows(rows []row) {
	slices.SortFunc(rows, func(a, b row) int { return bytes.Compare(a.key[:], b.key[:]) })
}

// eachRow passes the rows of a block. The data are a piece of the part's own text.
func eachRow(part string, each func(k key, data string) error) error {
	if len(part) == 0 || part[0] > numbers {
		return ErrDamaged
	}
	written, last := part[0], uint64(0)
	for part = part[1:]; len(part) > 0; {
		var k key
		if written == wholeKeys {
			if len(part) < len(k) {
				return ErrDamaged
			}
			part = part[copy(k[:], part):]
		} else {
			more, n := uvarint(part)
			if n <= 0 {
				return ErrDamaged
			}
			last += more
			binary.BigEndian.PutUint64(k[8:], last)
			part = part[n:]
		}
		size, n := uvarint(part)
		if n <= 0 || uint64(len(part)-n) < size {
			return ErrDamaged
		}
		if err := each(k, part[n:n+int(size)]); err != nil {
			return err
		}
		part = part[n+int(size):]
	}
	return nil
}

// uvarint is [binary.Uvarint] for texts.
func uvarint(text string) (uint64, int) {
	if len(text) > 0 && text[0] < 0x80 {
		return uint64(text[0]), 1
	}
	var head [binary.MaxVarintLen64]byte
	return binary.Uvarint(head[:copy(head[:], text)])
}

// encodeTable makes the leaves of a table, and returns the part that names them.
func encodeTable(blocks []block, put func(part []byte) Digest) []byte {
	var leaves []block
	start := 0
	for i := range blocks {
		if i+1 == len(blocks) || blocks[i+1].first.begins() {
			leaves = append(leaves, block{blocks[start].first, put(encodeBlocks(blocks[start : i+1]))})
			start = i + 1
		}
	}
	return encodeBlocks(leaves)
}

func encodeBlocks(blocks []block) []byte {
	part := make([]byte, 0, len(blocks)*(len(key{})+len(Digest{})))
	for _, b := range blocks {
		part = append(part, b.first[:]...)
		part = append(part, b.digest[:]...)
	}
	return part
}

func decodeBlocks(part []byte) ([]block, error) {
	const size = len(key{}) + len(Digest{})
	if len(part)%size != 0 {
		return nil, fmt.Errorf("a table of %d bytes: %w", len(part), ErrDamaged)
	}
	blocks := make([]block, len(part)/size)
	for i := range blocks {
		b := part[i*size:]
		blocks[i] = block{key(b[:16]), Digest(b[16:size])}
	}
	return blocks, nil
}

// blockOf returns the number of the block that a key belongs to: rows before the first belong there.
func blockOf(blocks []block, k key) int {
	i := sort.Search(len(blocks), func(i int) bool { return bytes.Compare(blocks[i].first[:], k[:]) > 0 })
	return max(0, i-1)
}

// differing returns the digests of the blocks that only one of two tables has, each in order.
func differing(a, b []block) (onlyA, onlyB []Digest) {
	count := map[Digest]int{}
	for _, x := range b {
		count[x.digest]++
	}
	for _, x := range a {
		if count[x.digest] == 0 {
			onlyA = append(onlyA, x.digest)
		} else {
			count[x.digest]--
		}
	}
	for _, x := range b {
		if count[x.digest] > 0 {
			count[x.digest]--
			onlyB = append(onlyB, x.digest)
		}
	}
	return onlyA, onlyB
}

// stretches joins the numbers of blocks that follow each other: [2 3 4 8] becomes [2 5) [8 9).
func stretches(numbers []int) [][2]int {
	slices.SortFunc(numbers, cmp.Compare[int])
	var joined [][2]int
	for _, n := range numbers {
		if last := len(joined) - 1; last >= 0 && n <= joined[last][1] {
			joined[last][1] = max(joined[last][1], n+1)
		} else {
			joined = append(joined, [2]int{n, n + 1})
		}
	}
	return joined
}
