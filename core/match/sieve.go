package match

import (
	"regexp/syntax"

	"widelark/core/weburl"
)

// grams is the number of bytes of a need that are looked up at a time: as many as possible, so that few URLs hold them by chance, and short
// enough that every need has as many. Texts of digits need the longer: any three digits stand in many URLs.
var grams = [...]int{6, minNeed}

// minNeed is the length of the shortest text that is searched for.
const minNeed = 3

// sieve holds the patterns that are found by a text that a URL must contain. The zero sieve is empty and ready for use.
type sieve struct {
	scans   []scan
	onHosts [len(grams)]*gramTable // of scans that look at the host alone; nil where nothing is filed
	onAll   [len(grams)]*gramTable // of the others
	always  []int32                // scans without needs
	single  []int32                // those of them that do not run in an automaton
	autos   [3]*automaton          // the others, by form: onURL, onHost, onPath; nil for none
}

// gramTable files needs by grams of one length.
type gramTable struct {
	needs map[uint64][]need
	seen  [1 << 11]uint64 // a bit for the hash of each gram, so that most places of a URL cost no look into the map
}

// need is one text of one scan.
type need struct {
	scan   int32
	offset int32 // of the gram in the text
	text   string
}

// seal files every scan under the rarest gram of each of its needs. It has to be called once, after the last scan is in.
func (x *sieve) seal() {
	popular := map[uint64]int{}
	for _, one := range x.scans {
		for _, text := range one.needs {
			_, size := gramTableFor(text)
			for i := 0; i+size <= len(text); i++ {
				popular[gramAt(text, i, size)]++
			}
		}
	}
	for n := range x.scans {
		one := &x.scans[n]
		if len(one.needs) == 0 {
			x.always = append(x.always, int32(n))
			if one.expr == "" || !x.together(int32(n), one) {
				x.single = append(x.single, int32(n))
			}
		}
		for _, text := range one.needs {
			at, size := gramTableFor(text)
			best := 0
			for i := 1; i+size <= len(text); i++ {
				if popular[gramAt(text, i, size)] < popular[gramAt(text, best, size)] {
					best = i
				}
			}
			tables := &x.onAll
			if one.form == onHost || one.form == isGlob {
				tables = &x.onHosts
			}
			if tables[at] == nil {
				tables[at] = &gramTable{needs: map[uint64][]need{}}
			}
			table, g := tables[at], gramAt(text, best, size)
			table.needs[g] = append(table.needs[g], need{int32(n), int32(best), text})
			word, mask := bit(g)
			table.seen[word] |= mask
		}
	}
	for _, a := range x.autos {
		if a != nil {
			a.seal()
		}
	}
}

// together puts an expression into the automaton of its form. It reports whether there was room.
func (x *sieve) together(n int32, one *scan) bool {
	prog, err := syntax.Compile(parseRegex(one.expr).Simplify())
	if err != nil {
		return false
	}
	if x.autos[one.form] == nil {
		x.autos[one.form] = &automaton{}
	}
	return x.autos[one.form].add(prog, n)
}

// gramTableFor returns the table in which a need is filed, and the length of its grams.
func gramTableFor(text string) (at, size int) {
	for at, size = range grams {
		if len(text) >= size {
			break
		}
	}
	return at, size
}

// gramAt returns the bytes at i as a number.
func gramAt[T string | []byte](text T, i, size int) uint64 {
	g := uint64(text[i])<<16 | uint64(text[i+1])<<8 | uint64(text[i+2])
	for j := i + minNeed; j < i+size; j++ {
		g = g<<8 | uint64(text[j])
	}
	return g
}

// bit returns the position of a gram's hash in seen.
func bit(g uint64) (word int, mask uint64) {
	h := g * 0x9e3779b97f4a7c15 >> 47
	return int(h >> 6), 1 << (h & 63)
}

// ask collects the scans that cover the URL, as far as it is seen. A scan that the host alone does not decide is collected only if it covers.
func (x *sieve) ask(s *scratch) {
	for _, n := range x.single {
		x.try(s, n)
	}
	x.askTogether(s)
	q := &s.question
	for at, table := range x.onHosts {
		if table == nil {
			continue
		}
		host := q.url.Host()
		askGrams(x, s, table, host, grams[at])
		if unicode := q.unicodeHost(); unicode != host {
			askGrams(x, s, table, unicode, grams[at])
		}
	}
	for at, table := range x.onAll {
		if table != nil {
			askGrams(x, s, table, q.haystack(), grams[at])
		}
	}
}

// askGrams tries the scans whose needs a text holds.
func askGrams[T string | []byte](x *sieve, s *scratch, table *gramTable, text T, size int) {
	if len(text) < size {
		return
	}
	g := gramAt(text, 0, size)
	keep := uint64(1)<<(8*size) - 1
	for i := 0; ; i++ {
		if word, mask := bit(g); table.seen[word]&mask != 0 {
			for _, need := range table.needs[g] {
				begin := i - int(need.offset)
				end := begin + len(need.text)
				if begin >= 0 && end <= len(text) && string(text[begin:end]) == need.text && s.stamps[need.scan] < 2*s.turn {
					x.try(s, need.scan)
				}
			}
		}
		if i+size == len(text) {
			return
		}
		g = (g<<8 | uint64(text[i+size])) & keep
	}
}

// askTogether runs the automata. At lesser sights what they look at is not known to its end, so there each expression is
// tried by itself; that of hosts is.
func (x *sieve) askTogether(s *scratch) {
	q := &s.question
	for form, a := range x.autos {
		if a == nil || q.sight != weburl.Full && form != int(onHost) {
			continue
		}
		var ok bool
		if form == int(onHost) {
			s.ids, ok = run(a, s.ids[:0], q.url.Host())
		} else {
			text, target := q.canonical()
			if form == int(onPath) {
				text = target
			}
			s.ids, ok = run(a, s.ids[:0], text)
		}
		if !ok {
			for _, n := range a.members {
				x.try(s, n)
			}
			continue
		}
		for _, n := range s.ids {
			if s.stamps[n] < 2*s.turn {
				x.file(s, n, Yes)
			}
		}
	}
}

func (x *sieve) try(s *scratch, n int32) {
	answer := x.scans[n].covers(&s.question)
	if answer != Yes && x.scans[n].blind {
		s.stamps[n] = 2 * s.turn
		return
	}
	x.file(s, n, answer)
}

func (x *sieve) file(s *scratch, n int32, answer Answer) {
	s.stamps[n] = 2 * s.turn
	if answer != No && s.takeEntry(x.scans[n].entry, answer) {
		s.stamps[n]++
	}
}

// blind are the scans of one list that the host alone does not settle.
type blind struct {
	list  int32
	scans []int32
}

func (b *Builder) addBlind(list int32) {
	x := b.b
	at, ok := b.blindOf[list]
	if !ok {
		at = len(x.blind)
		b.blindOf[list] = at
		x.blind = append(x.blind, blind{list: list})
	}
	x.blind[at].scans = append(x.blind[at].scans, int32(len(x.sieve.scans)))
}

// askBlind collects the entries that cannot be decided at a lesser sight: all of them or, unless all is asked for, the first carve-out and the first
// other entry of each list.
func (x *part) askBlind(s *scratch) {
	for _, b := range x.blind {
		unclear, unclearOut := false, false
		for _, n := range b.scans {
			scan := &x.sieve.scans[n]
			f := &x.kept[scan.entry]
			known := !s.all && !scan.costly && (f.entry.CarveOut && unclearOut || !f.entry.CarveOut && unclear)
			if s.stamps[n] == 2*s.turn+1 || known || !s.inForce(f) {
				continue // the sieve filed it, or it would tell nothing new
			}
			answer := CannotTell
			if scan.form != isWord && (scan.begins || scan.costly) {
				answer = scan.covers(&s.question)
			}
			if answer == No {
				continue
			}
			s.take(uint32(scan.entry)|keptBit, f.list, f.entry.CarveOut, answer)
			unclear, unclearOut = unclear || !f.entry.CarveOut, unclearOut || f.entry.CarveOut
		}
	}
}
