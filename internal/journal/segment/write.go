package segment

import (
	"encoding/binary"
	"slices"
	"strconv"
	"strings"

	"github.com/klauspost/compress/zstd"

	"widelark/core/policy"
	"widelark/internal/journal"
)

// Most is how many records a segment holds at most: the number of a value fits into two bytes.
const Most = 1 << 16

// Blocks are a segment as it is stored, compressed (Zstandard, RFC 8878). Searches seldom need all of them.
type Blocks struct {
	Head  []byte // the values of the keyed columns, and how often each occurs with which verdict
	Keys  []byte // which record has which of them; times and amounts
	Texts []byte // the other columns
	IDs   []byte
}

// Block is one of the blocks but the head, which is always there.
type Block uint8

// The blocks.
const (
	Keys Block = iota
	Texts
	IDs
	blockCount
)

var (
	packer, _   = zstd.NewWriter(nil, zstd.WithEncoderConcurrency(1), zstd.WithEncoderLevel(zstd.SpeedDefault), zstd.WithEncoderCRC(true)) // no error without a stream
	unpacker, _ = zstd.NewReader(nil, zstd.WithDecoderConcurrency(0), zstd.WithDecoderMaxMemory(256<<20))
)

// Verdicts are the verdicts in the order of counts; the last one stands for records without one of the others.
var Verdicts = [...]policy.Verdict{policy.Allow, policy.Watch, policy.Hold, policy.Block, ""}

// verdictNumber returns the index of a verdict in [Verdicts].
func verdictNumber[T ~string](v T) int {
	if n := slices.Index(Verdicts[:], policy.Verdict(v)); n >= 0 {
		return n
	}
	return len(Verdicts) - 1
}

// dict is the values of a column that is being written.
type dict struct {
	values []string
	number map[string]uint16
	of     []uint16 // by record
}

func (d *dict) add(value string) {
	n, known := d.number[value]
	if !known {
		n = uint16(len(d.values)) // Most values at most
		d.values = append(d.values, value)
		d.number[value] = n
	}
	d.of = append(d.of, n)
}

// sort puts the values into order, so that they compress well.
func (d *dict) sort() {
	order := make([]uint16, len(d.values))
	for i := range order {
		order[i] = uint16(i)
	}
	slices.SortFunc(order, func(a, b uint16) int { return strings.Compare(d.values[a], d.values[b]) })
	sorted, now := make([]string, len(order)), make([]uint16, len(order))
	for i, was := range order {
		sorted[i], now[was] = d.values[was], uint16(i)
	}
	d.values = sorted
	for i, n := range d.of {
		d.of[i] = now[n]
	}
}

// Write makes a segment of records, [Most] at most, which it sorts by time. positions are those of the batches that brought them; nil where one batch did.
// It panics if there are more.
func Write(records []journal.Record, positions []int64) Blocks {
	if len(records) > Most {
		panic("bug: too many records for a segment")
	}
	order := make([]int, len(records))
	for i := range order {
		order[i] = i
	}
	slices.SortStableFunc(order, func(a, b int) int { return records[a].At.Compare(records[b].At) })
	var columns [columnCount]dict
	for c := range columns {
		d := &columns[c]
		d.number, d.of = map[string]uint16{}, make([]uint16, 0, len(records))
		for _, i := range order {
			if Column(c) == position {
				if positions != nil {
					d.add(strconv.FormatInt(positions[i], 10))
				}
				continue
			}
			d.add(access[c].get(&records[i]))
		}
		d.sort()
	}

	var head, keys, texts, ids packing
	head.uvarint(uint64(len(records)))
	first, end := int64(0), int64(0)
	if len(order) > 0 {
		first, end = records[order[0]].At.UnixMilli(), records[order[len(order)-1]].At.UnixMilli()
	}
	head.varint(first)
	head.varint(end)
	for c := range keyed {
		d := &columns[c]
		counts := make([]Count, len(d.values))
		for at, i := range order {
			r := &records[i]
			of := &counts[d.of[at]]
			of.Requests[verdictNumber(r.Verdict)]++
			of.Bytes += max(0, r.Size)
		}
		head.values(d.values)
		for _, of := range counts {
			for _, n := range of.Requests {
				head.uvarint(uint64(n))
			}
			head.uvarint(uint64(of.Bytes))
		}
		keys.frame(numbers(d))
	}
	var times, sizes, took packing
	last := first
	for _, i := range order {
		at := records[i].At.UnixMilli()
		times.uvarint(uint64(at - last))
		last = at
		sizes.uvarint(uint64(max(0, records[i].Size)))
		took.uvarint(uint64(max(0, records[i].Took.Milliseconds())))
	}
	keys.frame(times)
	keys.frame(sizes)
	keys.frame(took)
	for c := keyed; c < columnCount; c++ {
		var values packing
		values.values(columns[c].values)
		texts.frame(values)
		texts.frame(numbers(&columns[c]))
	}
	for b := range len(records[0:min(1, len(records))]) * 16 { // by byte: the first ones hold the time, and repeat
		for _, i := range order {
			ids = append(ids, records[i].ID[b])
		}
	}
	return Blocks{Head: packer.EncodeAll(head, nil), Keys: keys, Texts: texts, IDs: packer.EncodeAll(ids, nil)}
}

// numbers returns which record has which value: nothing where there is one value, and one or two bytes a record elsewhere.
func numbers(d *dict) (raw packing) {
	switch {
	case len(d.values) <= 1:
	case len(d.values) <= 1<<8:
		for _, n := range d.of {
			raw = append(raw, byte(n))
		}
	default:
		for _, n := range d.of {
			raw = binary.LittleEndian.AppendUint16(raw, n)
		}
	}
	return raw
}

// packing is bytes that are being written.
type packing []byte

func (p *packing) uvarint(n uint64) { *p = binary.AppendUvarint(*p, n) }
func (p *packing) varint(n int64)   { *p = binary.AppendVarint(*p, n) }

func (p *packing) values(all []string) {
	p.uvarint(uint64(len(all)))
	for _, v := range all {
		p.uvarint(uint64(len(v)))
	}
	for _, v := range all {
		*p = append(*p, v...)
	}
}

// frame adds bytes, compressed by themselves, after their length.
func (p *packing) frame(raw []byte) {
	if len(raw) == 0 {
		p.uvarint(0)
		return
	}
	packed := packer.EncodeAll(raw, nil)
	p.uvarint(uint64(len(packed)))
	*p = append(*p, packed...)
}
