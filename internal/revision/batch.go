package revision

import (
	"encoding/binary"
	"fmt"
	"hash/maphash"

	"widelark/core/pattern"
)

// MaxBatch is the most entries that go into a list in one transaction. A batch of so many takes some 400 MB: about 60 bytes for
// the entry and 40 for knowing it again.
const MaxBatch = 4_000_000

// Batch collects entries for a list, each once, in the order of first occurrence. They are packed: a million take some
// 100 MB. The zero Batch is empty and ready for use.
type Batch struct {
	rows  packed // the entries
	again packed // what a later line said about an entry named before
	known map[[2]uint64]struct{}
	seeds [2]maphash.Seed
	Count int // entries, without notes
}

// Row is an entry of a batch as a store keeps it.
type Row struct {
	Kind     pattern.Kind
	Key      string // "" where it is the pattern, or there is none
	Pattern  string // "" for a note
	Note     string
	Until    pattern.Date
	CarveOut bool
	Off      bool
}

// NewBatch returns a batch of some entries.
func NewBatch(entries ...pattern.Entry) *Batch {
	b := &Batch{}
	for _, entry := range entries {
		if _, err := b.Add(entry); err != nil {
			panic("bug: a batch of literals is too large: " + err.Error())
		}
	}
	return b
}

// Add adds an entry and reports whether it is new. Note and end of a repeated entry are merged into the first. If the batch is full,
// the error is a [*FieldError].
func (b *Batch) Add(entry pattern.Entry) (isNew bool, err error) {
	key := entry.Key()
	row := Row{entry.Kind(), key, entry.Pattern.String(), entry.Note, entry.Until, entry.CarveOut, entry.Off}
	if row.Key == row.Pattern {
		row.Key = ""
	}
	if b.rows.count+b.again.count >= MaxBatch {
		return false, &FieldError{"file", fmt.Sprintf("it holds more than %d entries; split it, and import the parts one after the other", MaxBatch)}
	}
	if row.Kind != pattern.Note {
		if b.known == nil {
			b.known = map[[2]uint64]struct{}{}
			b.seeds = [2]maphash.Seed{maphash.MakeSeed(), maphash.MakeSeed()}
		}
		hash := [2]uint64{maphash.String(b.seeds[0], key), maphash.String(b.seeds[1], key)} // 128 bits: no two keys share them
		if _, known := b.known[hash]; known {
			if entry.Note != "" || !entry.Until.IsZero() || entry.Off {
				b.again.add(row)
			}
			return false, nil
		}
		b.known[hash] = struct{}{}
		b.Count++
	}
	b.rows.add(row)
	return true, nil
}

// Len returns how many entries and notes there are.
func (b *Batch) Len() int { return b.rows.count }

// Each calls each with every entry and note, in order.
func (b *Batch) Each(each func(Row) error) error { return b.rows.each(each) }

// EachAgain calls each with what later lines said about entries that were added before, in order.
func (b *Batch) EachAgain(each func(Row) error) error { return b.again.each(each) }

// HasAgain reports whether later lines said anything about entries that were added before.
func (b *Batch) HasAgain() bool { return b.again.count > 0 }

// packed stores rows in chunks, so that growing copies nothing.
type packed struct {
	pieces [][]byte
	count  int
}

const pieceSize = 1 << 20

func (p *packed) add(row Row) {
	last := len(p.pieces) - 1
	if last < 0 || len(p.pieces[last]) > pieceSize-4096 {
		p.pieces = append(p.pieces, make([]byte, 0, pieceSize))
		last++
	}
	to := p.pieces[last]
	flags := byte(0)
	for i, set := range []bool{row.CarveOut, row.Off, !row.Until.IsZero()} {
		if set {
			flags |= 1 << i
		}
	}
	to = append(to, flags)
	for _, text := range []string{string(row.Kind), row.Key, row.Pattern, row.Note} {
		to = append(binary.AppendUvarint(to, uint64(len(text))), text...)
	}
	if !row.Until.IsZero() {
		to = binary.AppendVarint(to, row.Until.Time().Unix())
	}
	p.pieces[last] = to
	p.count++
}

func (p *packed) each(each func(Row) error) error {
	for _, piece := range p.pieces {
		for len(piece) > 0 {
			flags := piece[0]
			piece = piece[1:]
			var texts [4]string
			for i := range texts {
				size, n := binary.Uvarint(piece)
				texts[i] = string(piece[n : n+int(size)])
				piece = piece[n+int(size):]
			}
			row := Row{pattern.Kind(texts[0]), texts[1], texts[2], texts[3], pattern.Date{}, flags&1 != 0, flags&2 != 0}
			if flags&4 != 0 {
				unix, n := binary.Varint(piece)
				row.Until = pattern.DateOfUnix(unix)
				piece = piece[n:]
			}
			if err := each(row); err != nil {
				return err
			}
		}
	}
	return nil
}
