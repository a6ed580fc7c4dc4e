// Package language compares regular expressions as sets of texts, by the product of their automata.
//
// From: expressions in RE2 syntax, each for whole texts.
// To: the shortest text that only one side accepts, or the proof that there is none.
package language

import (
	"cmp"
	"encoding/binary"
	"regexp/syntax"
	"slices"
	"unicode"
)

// mostStates bounds the states of a product that are explored: enough for any expression that people write, and some tens of milliseconds.
const mostStates = 20_000

// machine simulates the nondeterministic automaton of an expression. It accepts whole texts. Not safe for concurrent use.
type machine struct {
	prog *syntax.Prog
	seen []uint32 // by instruction: the last call of close that visited it
	now  *uint32  // the number of the current call of close
}

// compile builds the machine of an expression; ok is false if the expression does not parse.
func compile(expr string) (m machine, ok bool) {
	tree, err := syntax.Parse(`(?s)\A(?:`+expr+`)\z`, syntax.Perl)
	if err != nil {
		return m, false
	}
	prog, err := syntax.Compile(tree.Simplify())
	if err != nil {
		return m, false
	}
	return machine{prog, make([]uint32, len(prog.Inst)), new(uint32)}, true
}

// before is the class of the rune before the current position: all that an assertion depends on.
type before byte

const (
	atBegin before = iota
	afterWord
	afterLine
	afterOther
)

var runeOf = map[before]rune{atBegin: -1, afterWord: 'a', afterLine: '\n', afterOther: '-'}

func kindOf(r rune) before {
	switch {
	case r == '\n':
		return afterLine
	case syntax.IsWordChar(r):
		return afterWord
	}
	return afterOther
}

// places is the set of instructions that a machine is at, sorted and without repeats, before empty transitions are followed.
type places []uint32

func (m machine) start() places { return places{uint32(m.prog.Start)} }

// close follows all transitions that consume nothing, given the runes on both sides of the position. open holds the instructions that consume
// a rune; matched reports whether the machine accepts here.
func (m machine) close(at places, was before, next rune) (open places, matched bool) {
	flags := syntax.EmptyOpContext(runeOf[was], next)
	*m.now++
	todo := slices.Clone(at)
	for len(todo) > 0 {
		pc := todo[len(todo)-1]
		todo = todo[:len(todo)-1]
		if m.seen[pc] == *m.now {
			continue
		}
		m.seen[pc] = *m.now
		switch inst := &m.prog.Inst[pc]; inst.Op {
		case syntax.InstAlt, syntax.InstAltMatch:
			todo = append(todo, inst.Out, inst.Arg)
		case syntax.InstCapture, syntax.InstNop:
			todo = append(todo, inst.Out)
		case syntax.InstEmptyWidth:
			if syntax.EmptyOp(inst.Arg)&^flags == 0 {
				todo = append(todo, inst.Out)
			}
		case syntax.InstMatch:
			matched = true
		case syntax.InstRune, syntax.InstRune1, syntax.InstRuneAny, syntax.InstRuneAnyNotNL:
			open = append(open, pc)
		}
	}
	return open, matched
}

// step returns the places after r has been read.
func (m machine) step(at places, was before, r rune) places {
	open, _ := m.close(at, was, r)
	var next places
	for _, pc := range open {
		if inst := &m.prog.Inst[pc]; inst.MatchRune(r) {
			next = append(next, inst.Out)
		}
	}
	slices.Sort(next)
	return slices.Compact(next)
}

// ends reports whether the machine accepts if the text ends here.
func (m machine) ends(at places, was before) bool {
	_, matched := m.close(at, was, -1)
	return matched
}

// representatives returns one rune of each class of runes that no machine distinguishes. Those that look best in a URL come first.
func representatives(machines []machine) []rune {
	cuts := []rune{0, '\n', '\n' + 1, '0', '9' + 1, 'A', 'Z' + 1, '_', '_' + 1, 'a', 'z' + 1, 0x80}
	for _, m := range machines {
		for i := range m.prog.Inst {
			inst := &m.prog.Inst[i]
			for j := 0; j+1 < len(inst.Rune); j += 2 {
				cuts = append(cuts, inst.Rune[j], inst.Rune[j+1]+1)
			}
			if len(inst.Rune) == 1 {
				for r := inst.Rune[0]; ; {
					cuts = append(cuts, r, r+1)
					if r = unicode.SimpleFold(r); r == inst.Rune[0] {
						break
					}
				}
			}
		}
	}
	slices.Sort(cuts)
	cuts = slices.Compact(cuts)
	var runes []rune
	for i, from := range cuts {
		to := rune(0x10FFFF)
		if i+1 < len(cuts) {
			to = cuts[i+1] - 1
		}
		best := from
		for _, r := range "xa0-/." {
			if from <= r && r <= to {
				best = r
				break
			}
		}
		runes = append(runes, best)
	}
	rank := func(r rune) int {
		switch {
		case r == 'x':
			return -1 // the usual placeholder
		case r >= 'a' && r <= 'z':
			return 0
		case r >= '0' && r <= '9':
			return 1
		case r < 0x80:
			return 2
		}
		return 3
	}
	slices.SortStableFunc(runes, func(a, b rune) int { return cmp.Compare(rank(a), rank(b)) })
	return runes
}

// Witness looks for the shortest text that every expression of all accepts and without does not. If without is "", it looks for a text that all
// accept. decided is false if the bound on states was hit or an expression does not parse.
func Witness(without string, all ...string) (text string, found, decided bool) {
	var machines []machine
	for _, expr := range all {
		m, ok := compile(expr)
		if !ok {
			return "", false, false
		}
		machines = append(machines, m)
	}
	if without != "" {
		m, ok := compile(without)
		if !ok {
			return "", false, false
		}
		machines = append(machines, m)
	}
	alphabet := representatives(machines)
	type state struct {
		at   []places
		was  before
		from int
		by   rune
	}
	first := state{was: atBegin, from: -1}
	for _, m := range machines {
		first.at = append(first.at, m.start())
	}
	states := []state{first}
	known := map[string]bool{}
	key := func(s state) string {
		b := []byte{byte(s.was)}
		for _, at := range s.at {
			for _, pc := range at {
				b = binary.AppendUvarint(b, uint64(pc)+1)
			}
			b = append(b, 0)
		}
		return string(b)
	}
	known[key(first)] = true
	for i := 0; i < len(states); i++ {
		s := states[i]
		good := true
		for j, m := range machines {
			wanted := j < len(all)
			good = good && m.ends(s.at[j], s.was) == wanted
		}
		if good {
			var runes []rune
			for at := i; states[at].from >= 0; at = states[at].from {
				runes = append(runes, states[at].by)
			}
			slices.Reverse(runes)
			return string(runes), true, true
		}
		for _, r := range alphabet {
			next := state{was: kindOf(r), from: i, by: r}
			dead := false
			for j, m := range machines {
				at := m.step(s.at[j], s.was, r)
				if dead = j < len(all) && len(at) == 0; dead {
					break
				}
				next.at = append(next.at, at)
			}
			if dead {
				continue
			}
			if k := key(next); !known[k] {
				if len(states) == mostStates {
					return "", false, false
				}
				known[k] = true
				states = append(states, next)
			}
		}
	}
	return "", false, true
}
