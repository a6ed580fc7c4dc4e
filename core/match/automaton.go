package match

import (
	"encoding/binary"
	"regexp/syntax"
	"slices"
	"sync"
	"sync/atomic"
	"unicode/utf8"
)

// automaton matches many expressions at once, each unanchored, in one pass over an ASCII text. It is a deterministic automaton
// built lazily: a state stands for the set of positions at which the expressions may be, and is built when a text first leads there.
// The states together are bounded; when they outgrow that, all are dropped and made again, and where that happens too often for
// its cost, the automaton gives up and reports that. It is safe for concurrent use once sealed.
type automaton struct {
	program
	members []int32 // the expressions
	classOf [utf8.RuneSelf]uint8
	reps    []rune // one character of each class

	broken  atomic.Bool  // it gave up
	scanned atomic.Int64 // bytes since the states were last dropped
	start   atomic.Pointer[state]

	mu    sync.Mutex        // guards the following, and the making of states
	known map[string]*state // by what they stand for
	size  int               // bytes that the states take, about
	maker walker
}

// maxInsts bounds the expressions of one automaton together: a state may name each instruction, so maxStates bytes hold at least
// a thousand states.
const (
	maxInsts  = 1 << 13
	maxStates = 32 << 20 // bytes
	// A state costs about as much to make as eight times its share of text to run through; below so many bytes a state it does
	// not pay to go on.
	fewBytes = 16
)

// state is a set of places between two characters. It is immutable but for next.
type state struct {
	places  []uint32 // instructions before what is asked of the next character; the starts aside
	prev    rune     // a character of the kind that stands before; -1 at the beginning
	matched []int32
	next    []atomic.Pointer[state] // by class; the last is for the end of the text
}

// program is the instructions of some expressions together.
type program struct {
	insts    []syntax.Inst // of a match, Arg is the expression
	starts   []uint32      // of those that may begin anywhere
	anchored []uint32      // of those that may begin at the beginning only
}

// add puts an expression in. It reports whether there was room.
func (a *automaton) add(prog *syntax.Prog, id int32) bool {
	if len(a.insts)+len(prog.Inst) > maxInsts {
		return false
	}
	a.members = append(a.members, id)
	a.program.add(prog, id)
	return true
}

func (p *program) add(prog *syntax.Prog, id int32) {
	offset := uint32(len(p.insts))
	for _, inst := range prog.Inst {
		inst.Out += offset
		switch inst.Op {
		case syntax.InstAlt, syntax.InstAltMatch:
			inst.Arg += offset
		case syntax.InstMatch:
			inst.Arg = uint32(id)
		}
		p.insts = append(p.insts, inst)
	}
	start := offset + uint32(prog.Start)
	if prog.StartCond()&syntax.EmptyBeginText != 0 {
		p.anchored = append(p.anchored, start)
	} else {
		p.starts = append(p.starts, start)
	}
}

// seal computes the character classes: characters that no instruction distinguishes form one class.
func (a *automaton) seal() {
	var signatures [utf8.RuneSelf][]byte
	bits := 0
	for i := range a.insts {
		inst := &a.insts[i]
		if !takesRune(inst) {
			continue
		}
		for c := range signatures {
			if bits%8 == 0 {
				signatures[c] = append(signatures[c], 0)
			}
			if inst.MatchRune(rune(c)) {
				signatures[c][bits/8] |= 1 << (bits % 8)
			}
		}
		bits++
	}
	classes := map[string]uint8{}
	for c := range signatures {
		kind := byte(kindOf(rune(c))) // assertions tell words and lines apart
		key := string(append(signatures[c], kind))
		class, ok := classes[key]
		if !ok {
			class = uint8(len(classes))
			classes[key] = class
			a.reps = append(a.reps, rune(c))
		}
		a.classOf[c] = class
	}
	a.known = map[string]*state{}
	a.mu.Lock()
	a.drop()
	a.mu.Unlock()
}

func takesRune(inst *syntax.Inst) bool {
	switch inst.Op {
	case syntax.InstRune, syntax.InstRune1, syntax.InstRuneAny, syntax.InstRuneAnyNotNL:
		return true
	}
	return false
}

// kindOf returns a character that assertions do not tell from c: -1 for none, "a" for those of words, a line's end, or a blank.
func kindOf(c rune) rune {
	switch {
	case c < 0 || c == '\n':
		return c
	case syntax.IsWordChar(c):
		return 'a'
	}
	return ' '
}

// drop forgets all states. Precondition: mu is held.
func (a *automaton) drop() {
	clear(a.known)
	a.size = 0
	a.scanned.Store(0)
	a.start.Store(a.keep(slices.Clone(a.anchored), -1, nil))
}

// keep returns the state for a set of places. Precondition: mu is held; places are sorted.
func (a *automaton) keep(places []uint32, prev rune, matched []int32) *state {
	key := binary.AppendVarint(nil, int64(prev))
	for _, id := range matched {
		key = binary.AppendUvarint(key, uint64(id)+1)
	}
	key = append(key, 0)
	for _, place := range places {
		key = binary.AppendUvarint(key, uint64(place)+1)
	}
	if s := a.known[string(key)]; s != nil {
		return s
	}
	s := &state{places: slices.Clone(places), prev: prev, matched: slices.Clone(matched), next: make([]atomic.Pointer[state], len(a.reps)+1)}
	a.known[string(key)] = s
	a.size += 8*len(s.next) + 4*len(places) + 2*len(key) + 160
	return s
}

// step makes the state that a class leads to; class len(reps) is the end of the text. It returns nil where the automaton gives
// up.
func (a *automaton) step(s *state, class int) *state {
	a.mu.Lock()
	defer a.mu.Unlock()
	if next := s.next[class].Load(); next != nil {
		return next
	}
	if a.size > maxStates {
		if a.scanned.Load() < int64(fewBytes*len(a.known)) {
			a.broken.Store(true)
			clear(a.known)
		} else {
			a.drop()
		}
	}
	if a.broken.Load() {
		return nil
	}
	c := rune(-1)
	if class < len(a.reps) {
		c = a.reps[class]
	}
	a.maker.step(&a.program, s.places, s.prev, c)
	next := a.keep(a.maker.out, kindOf(c), a.maker.matched)
	s.next[class].Store(next)
	return next
}

// walker follows a program over one character. Its buffers are used again.
type walker struct {
	seen    []uint32 // by instruction: the turn in which it was visited
	turn    uint32
	stack   []uint32
	out     []uint32 // where the places lead, sorted
	matched []int32  // the expressions that match before the character, sorted
	places  []uint32 // for ahead
}

// step goes from places, and from the starts, over c; prev is what stands before.
func (w *walker) step(p *program, places []uint32, prev, c rune) {
	if w.turn++; len(w.seen) < len(p.insts) || w.turn == 0 {
		w.seen, w.turn = make([]uint32, len(p.insts)), 1
	}
	w.out, w.matched = w.out[:0], w.matched[:0]
	holds := syntax.EmptyOpContext(prev, c)
	w.visit(p, places, c, holds)
	w.visit(p, p.starts, c, holds)
	slices.Sort(w.out)
	w.out = slices.Compact(w.out)
	slices.Sort(w.matched)
	w.matched = slices.Compact(w.matched)
}

func (w *walker) visit(p *program, places []uint32, c rune, holds syntax.EmptyOp) {
	w.stack = append(w.stack[:0], places...)
	for len(w.stack) > 0 {
		at := w.stack[len(w.stack)-1]
		w.stack = w.stack[:len(w.stack)-1]
		if w.seen[at] == w.turn {
			continue
		}
		w.seen[at] = w.turn
		switch inst := &p.insts[at]; inst.Op {
		case syntax.InstAlt, syntax.InstAltMatch:
			w.stack = append(w.stack, inst.Out, inst.Arg)
		case syntax.InstCapture, syntax.InstNop:
			w.stack = append(w.stack, inst.Out)
		case syntax.InstEmptyWidth:
			if syntax.EmptyOp(inst.Arg)&^holds == 0 {
				w.stack = append(w.stack, inst.Out)
			}
		case syntax.InstMatch:
			w.matched = append(w.matched, int32(inst.Arg))
		default:
			if takesRune(inst) && c >= 0 && inst.MatchRune(c) {
				w.out = append(w.out, inst.Out)
			}
		}
	}
}

// run appends to ids the expressions that match text, some perhaps more than once. ok is false where the automaton cannot tell:
// it gave up, or the text is not ASCII.
func run[T string | []byte](a *automaton, ids []int32, text T) (_ []int32, ok bool) {
	if a.broken.Load() {
		return ids, false
	}
	s := a.start.Load()
	for i := range len(text) {
		c := text[i]
		if c >= utf8.RuneSelf {
			return ids, false
		}
		class := int(a.classOf[c])
		next := s.next[class].Load()
		if next == nil {
			if next = a.step(s, class); next == nil {
				return ids, false
			}
		}
		if s = next; s.matched != nil {
			ids = append(ids, s.matched...)
		}
	}
	a.scanned.Add(int64(len(text)))
	end := s.next[len(a.reps)].Load()
	if end == nil {
		if end = a.step(s, len(a.reps)); end == nil {
			return ids, false
		}
	}
	return append(ids, end.matched...), true
}

// lazyProgram is one expression that is followed by itself, compiled when it is first asked.
type lazyProgram struct {
	expr string
	once sync.Once
	program
}

var walkers = sync.Pool{New: func() any { return &walker{} }}

// ahead returns the expression's answer for texts that begin with three pieces: Yes where it matches whatever follows, No where
// nothing that follows would make it match. It allocates nothing once it was asked.
func (l *lazyProgram) ahead(pieces ...string) Answer {
	l.once.Do(func() {
		if prog, err := syntax.Compile(parseRegex(l.expr).Simplify()); err == nil {
			l.add(prog, 0)
		}
	})
	w := walkers.Get().(*walker)
	defer walkers.Put(w)
	w.places = append(w.places[:0], l.anchored...)
	prev := rune(-1)
	for _, piece := range pieces {
		for i := range len(piece) {
			c := rune(piece[i])
			w.step(&l.program, w.places, prev, c)
			if len(w.matched) > 0 {
				return Yes
			}
			w.places, prev = append(w.places[:0], w.out...), c
		}
	}
	// What follows is not known. It matches for certain only if it does before the end of the text, a word's character, and
	// another one; it cannot match only if no place is left.
	certain := true
	for _, c := range [...]rune{-1, 'a', '/', '\n'} {
		w.step(&l.program, w.places, prev, c)
		certain = certain && len(w.matched) > 0
	}
	switch {
	case certain:
		return Yes
	case len(w.places) == 0 && len(l.starts) == 0:
		return No
	}
	return CannotTell
}
