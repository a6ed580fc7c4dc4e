package gate

import (
	"net/netip"
	"sync"

	"github.com/google/uuid"

	"widelark/core/policy"
)

// Spender is whose minutes count for a rule with a quota: a person's or, where nobody is known, an address's. With neither, the rule is what somebody has unlocked
// that ends when it is not used, and the minutes are those in which it was.
type Spender struct {
	Rule    uuid.UUID
	Person  uuid.UUID
	Address netip.Addr
}

// spending gathers the minutes in which what rules with quotas allow was used. The zero spending is empty.
type spending struct {
	mu     sync.Mutex
	fresh  map[Spender]map[int64]struct{} // guarded by mu: minutes that nobody has taken yet
	minute int64                          // guarded by mu: that was gathered last
	known  map[Spender]struct{}           // guarded by mu: whose minute it was
}

// mostSpenders bounds whose minutes are kept while nobody takes them, as clients with many addresses could fill the memory.
const mostSpenders = 200_000

// add gathers a minute, once.
func (s *spending) add(of Spender, minute int64) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.known == nil {
		s.fresh, s.known = map[Spender]map[int64]struct{}{}, map[Spender]struct{}{}
	}
	if s.minute != minute {
		s.minute = minute
		clear(s.known)
	}
	if _, counted := s.known[of]; counted || s.fresh[of] == nil && len(s.fresh) >= mostSpenders {
		return
	}
	s.known[of] = struct{}{}
	s.put(of, minute)
}

// put keeps a minute until it is taken. The caller holds mu.
func (s *spending) put(of Spender, minute int64) {
	if s.fresh[of] == nil {
		s.fresh[of] = map[int64]struct{}{}
	}
	s.fresh[of][minute] = struct{}{}
}

// use counts the present minute for the quotas that a decision is bound to.
func (g *Gate) use(d Decision) {
	if d.Edition == nil {
		return
	}
	if id, err := uuid.Parse(d.Edition.Snapshot.Idles(d.Decision)); err == nil {
		g.spending.add(Spender{Rule: id}, g.Now().Unix()/60)
	}
	held, _, _ := g.Held(d)
	if held.Quota == 0 {
		return
	}
	w := g.works.Get().(*policy.Work)
	defer g.works.Put(w)
	q := g.question(&d.Request)
	_, rules := d.Edition.Snapshot.Quotas(w, &q, d.At)
	for _, id := range rules {
		rule, err := uuid.Parse(id)
		if err != nil {
			continue // the rules of configurations have ids
		}
		of := Spender{Rule: rule, Person: d.Request.Person}
		if of.Person == uuid.Nil {
			of.Address = d.Request.Address
		}
		g.spending.add(of, g.Now().Unix()/60)
	}
}

// TakeUsed returns the minutes (since 1970 began) that were used since it was last called, by whose they are. Whoever cannot keep them gives them back with
// [Gate.GiveBack].
func (g *Gate) TakeUsed() map[Spender][]int64 {
	g.spending.mu.Lock()
	defer g.spending.mu.Unlock()
	if len(g.spending.fresh) == 0 {
		return nil
	}
	taken := map[Spender][]int64{}
	for of, minutes := range g.spending.fresh {
		for m := range minutes {
			taken[of] = append(taken[of], m)
		}
	}
	clear(g.spending.fresh)
	return taken
}

// GiveBack takes back what [Gate.TakeUsed] returned.
func (g *Gate) GiveBack(used map[Spender][]int64) {
	g.spending.mu.Lock()
	defer g.spending.mu.Unlock()
	for of, minutes := range used {
		for _, m := range minutes {
			g.spending.put(of, m)
		}
	}
}
