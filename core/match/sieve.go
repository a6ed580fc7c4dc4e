package match

// gram is how many bytes of a need are looked up at a time: long enough that few URLs hold them by chance, short enough that
// most patterns have as many.
const gram = 3

// sieve holds the patterns that are found by what a URL must hold. The zero sieve is empty and ready for use.
type sieve struct {
	scans  []scan
	grams  map[uint32][]need
	seen   [1 << 10]uint64 // a bit for the hash of each gram, so that most places of a URL cost no look into the map
	always []int32         // scans without needs
}

// need is one text of one scan.
type need struct {
	scan   int32
	offset int32 // of the gram in the text
	text   string
}

func (s *sieve) add(one scan) { s.scans = append(s.scans, one) }

// seal files every scan under the rarest gram of each of its needs. It has to be called once, after the last add.
func (s *sieve) seal() {
	popular := map[uint32]int{}
	for _, one := range s.scans {
		for _, text := range one.needs {
			for i := 0; i+gram <= len(text); i++ {
				popular[gramAt(text, i)]++
			}
		}
	}
	s.grams = map[uint32][]need{}
	for n, one := range s.scans {
		if len(one.needs) == 0 {
			s.always = append(s.always, int32(n))
		}
		for _, text := range one.needs {
			best := 0
			for i := 1; i+gram <= len(text); i++ {
				if popular[gramAt(text, i)] < popular[gramAt(text, best)] {
					best = i
				}
			}
			g := gramAt(text, best)
			s.grams[g] = append(s.grams[g], need{int32(n), int32(best), text})
			s.mark(g)
		}
	}
}

// gramAt returns the bytes at i as a number.
func gramAt(text string, i int) uint32 {
	return uint32(text[i])<<16 | uint32(text[i+1])<<8 | uint32(text[i+2])
}

// bit returns where the hash of a gram stands in seen.
func bit(g uint32) (word int, mask uint64) {
	h := g * 0x9e3779b1 >> 16
	return int(h >> 6), 1 << (h & 63)
}

func (s *sieve) mark(g uint32) {
	word, mask := bit(g)
	s.seen[word] |= mask
}

// each calls try with every scan that has a chance, once.
func (s *sieve) each(q *question, try func(*scan)) {
	for _, n := range s.always {
		try(&s.scans[n])
	}
	if len(s.grams) == 0 {
		return
	}
	text := q.all()
	var tried map[int32]bool
	for i := 0; i+gram <= len(text); i++ {
		g := gramAt(text, i)
		if word, mask := bit(g); s.seen[word]&mask == 0 {
			continue
		}
		for _, need := range s.grams[g] {
			begin := i - int(need.offset)
			end := begin + len(need.text)
			if begin < 0 || end > len(text) || text[begin:end] != need.text || tried[need.scan] {
				continue
			}
			if tried == nil {
				tried = map[int32]bool{}
			}
			tried[need.scan] = true
			try(&s.scans[need.scan])
		}
	}
}
