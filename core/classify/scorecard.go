package classify

import (
	"widelark/core/match"
	"widelark/core/pattern"
)

// Term is a word with its points.
type Term struct {
	Word   pattern.Pattern // a [pattern.Word]
	Points int             // negative where the word speaks against the category
}

// Scorecard gives a category to texts with words whose points reach a threshold. A word counts once, however often and wherever it
// occurs.
type Scorecard struct {
	ID        string
	Name      string
	Category  string // key
	Threshold int    // 1 at least
	Terms     []Term
}

// index returns the words as a list whose entries have the terms' positions for ids.
func (s Scorecard) index() *match.Index {
	b := match.NewBuilder(0)
	list := b.List(s.ID, s.Name)
	for i, term := range s.Terms {
		b.Add(list, int64(i), pattern.Entry{Pattern: term.Word})
	}
	return b.Build()
}

// compiledCard is a scorecard with the index of its words.
type compiledCard struct {
	Scorecard
	words *match.Index
}

// scores is a scorecard in a classifier.
type scores struct {
	Scorecard
	key int32 // of the category
}

// total sums the points of the words that are there for certain.
func (s *scores) total(x *match.Index, takes []match.Take) int {
	total := 0
	for _, t := range takes {
		if !t.Unclear {
			total += s.Terms[x.ID(t)].Points
		}
	}
	return total
}

// Score is the total of a scorecard, word by word.
type Score struct {
	ID        string
	Name      string
	Category  string
	Threshold int // 1 at least
	Total     int
	Terms     []Term // those that count, in the scorecard's order
	Unclear   []Term // at a lesser sight: those that might be where it does not reach; many, since most might
}

// Reached reports whether the total reaches the threshold.
func (s Score) Reached() bool { return s.Total >= s.Threshold }

func (s Scorecard) score() Score {
	return Score{ID: s.ID, Name: s.Name, Category: s.Category, Threshold: s.Threshold}
}

func (s *scores) explain(x *match.Index, takes []match.Take) Score {
	score := s.score()
	yes, unclear := make([]bool, len(s.Terms)), make([]bool, len(s.Terms))
	for _, t := range takes {
		yes[x.ID(t)], unclear[x.ID(t)] = !t.Unclear, t.Unclear
	}
	for i, term := range s.Terms {
		switch {
		case yes[i]:
			score.Total += term.Points
			score.Terms = append(score.Terms, term)
		case unclear[i]:
			score.Unclear = append(score.Unclear, term)
		}
	}
	return score
}

// Text scores text that is not a URL, such as that of a page.
func (s Scorecard) Text(text string) Score {
	words := make([]pattern.Pattern, len(s.Terms))
	for i, term := range s.Terms {
		words[i] = term.Word
	}
	score := s.score()
	for _, i := range match.NewWords(words).Find(text) {
		score.Total += s.Terms[i].Points
		score.Terms = append(score.Terms, s.Terms[i])
	}
	return score
}
