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

// ends reports whether a block ends behind the row with this key, as one in rowsABlock does. It depends on nothing else, so a row that comes, changes or goes
// changes its own block alone, or joins it with the next.
func (k key) ends() bool {
	h := binary.BigEndian.Uint64(k[:8])*0x9e3779b97f4a7c15 + binary.BigEndian.Uint64(k[8:])
	h = (h ^ h>>30) * 0xbf58476d1ce4e5b9 // the finaliser of SplitMix64
	h = (h ^ h>>27) * 0x94d049bb133111eb
	return (h^h>>31)%rowsABlock == 0
}

// rowsABlock is how many rows a block has on average. One edit sends a block and the table that names all blocks: with a million rows, both are about as long.
const rowsABlock = 2048

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

// split cuts rows, sorted by key, into blocks, and hands each block to put.
func split(rows []row, put func(part []byte) Digest) []block {
	var blocks []block
	var part []byte
	start := 0
	for i := range rows {
		part = append(part, rows[i].key[:]...)
		part = binary.AppendUvarint(part, uint64(len(rows[i].data)))
		part = append(part, rows[i].data...)
		if i+1 == len(rows) || rows[i].key.ends() {
			blocks = append(blocks, block{rows[start].key, put(part)})
			part, start = part[:0], i+1
		}
	}
	return blocks
}

func sortRows(rows []row) {
	slices.SortFunc(rows, func(a, b row) int { return bytes.Compare(a.key[:], b.key[:]) })
}

// eachRow passes the rows of a block. The data are a piece of the part's own text.
func eachRow(part string, each func(k key, data string) error) error {
	for len(part) > 0 {
		if len(part) < len(key{}) {
			return ErrDamaged
		}
		k := key([]byte(part[:len(key{})]))
		part = part[len(k):]
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
	var head [binary.MaxVarintLen64]byte
	return binary.Uvarint(head[:copy(head[:], text)])
}

// encodeTable returns the blocks as a part of their own.
func encodeTable(blocks []block) []byte {
	part := make([]byte, 0, len(blocks)*(len(key{})+len(Digest{})))
	for _, b := range blocks {
		part = append(part, b.first[:]...)
		part = append(part, b.digest[:]...)
	}
	return part
}

func decodeTable(part []byte) ([]block, error) {
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
