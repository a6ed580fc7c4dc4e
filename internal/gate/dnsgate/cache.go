package dnsgate

import (
	"context"
	"errors"
	"strings"
	"time"

	lru "github.com/hashicorp/golang-lru/v2"
	"github.com/miekg/dns"
	"golang.org/x/sync/singleflight"
)

// cache keeps what resolvers said. Answers that there is nothing stand apart, so that questions for names that do not exist do not empty the rest. It is safe for
// concurrent use.
type cache struct {
	found, nothing *lru.Cache[cacheKey, *kept]
	flight         singleflight.Group
}

type cacheKey struct {
	name string
	kind uint16
	do   bool
	cd   bool
}

func (k cacheKey) String() string {
	b := []byte{byte(k.kind >> 8), byte(k.kind), 0, 0}
	if k.do {
		b[2] = 1
	}
	if k.cd {
		b[3] = 1
	}
	return string(b) + k.name
}

// kept is an answer of a resolver. It is not changed any more.
type kept struct {
	answer *dns.Msg
	at     time.Time
	until  time.Time

	template *template // nil where there is more to decide than the name
}

// Sizes and times of the cache.
const (
	mostFound   = 100_000
	mostNothing = 20_000

	longestFound   = 24 * time.Hour
	longestNothing = time.Hour       // RFC 2308, section 5
	afterFailure   = 5 * time.Second // RFC 9520, section 3.2

	staleFor    = 24 * time.Hour          // RFC 8767, section 5
	staleTTL    = 30                      // seconds, of a stale answer
	staleWaits  = 1800 * time.Millisecond // before a stale answer is given
	lookupWaits = 8 * time.Second
)

func newCache() *cache {
	c := &cache{}
	c.found, _ = lru.New[cacheKey, *kept](mostFound) // the sizes are in order
	c.nothing, _ = lru.New[cacheKey, *kept](mostNothing)
	return c
}

func (c *cache) get(key cacheKey) (*kept, bool) {
	if k, ok := c.found.Get(key); ok {
		return k, true
	}
	return c.nothing.Get(key)
}

func (c *cache) put(key cacheKey, answer *dns.Msg, now time.Time) *kept {
	ttl, nothing := lifetime(answer)
	k := &kept{answer: answer, at: now, until: now.Add(ttl), template: newTemplate(key.name, answer)}
	if answer.Rcode != dns.RcodeSuccess && answer.Rcode != dns.RcodeNameError {
		if before, ok := c.get(key); ok && now.Sub(before.until) < staleFor && before.answer.Rcode != answer.Rcode {
			return k // what was known before is worth more than a failure
		}
	}
	if nothing {
		c.found.Remove(key)
		c.nothing.Add(key, k)
	} else {
		c.nothing.Remove(key)
		c.found.Add(key, k)
	}
	return k
}

// lifetime returns how long an answer may be kept, and whether it says that there is nothing.
func lifetime(answer *dns.Msg) (ttl time.Duration, nothing bool) {
	least := uint32(1<<31 - 1)
	for _, rr := range answer.Answer {
		least = min(least, rr.Header().Ttl)
	}
	switch {
	case answer.Rcode != dns.RcodeSuccess && answer.Rcode != dns.RcodeNameError:
		return afterFailure, true
	case answer.Rcode == dns.RcodeSuccess && len(answer.Answer) > 0 && !onlyAliases(answer):
		return min(time.Duration(least)*time.Second, longestFound), false
	}
	for _, rr := range answer.Ns {
		if soa, ok := rr.(*dns.SOA); ok {
			return min(time.Duration(min(least, soa.Hdr.Ttl, soa.Minttl))*time.Second, longestNothing), true
		}
	}
	return 0, true // without that it is not kept (RFC 2308, section 5)
}

// onlyAliases reports whether an answer has nothing but aliases, for a question about something else.
func onlyAliases(answer *dns.Msg) bool {
	if len(answer.Question) != 1 || answer.Question[0].Qtype == dns.TypeCNAME {
		return false
	}
	for _, rr := range answer.Answer {
		if t := rr.Header().Rrtype; t != dns.TypeCNAME && t != dns.TypeDNAME && t != dns.TypeRRSIG {
			return false
		}
	}
	return true
}

// told returns a copy of an answer as it is given at a moment.
func (k *kept) told(now time.Time) *dns.Msg {
	r := k.answer.Copy()
	age := uint32(max(0, now.Sub(k.at)/time.Second))
	stale := now.After(k.until)
	for _, section := range [][]dns.RR{r.Answer, r.Ns, r.Extra} {
		for _, rr := range section {
			head := rr.Header()
			switch {
			case head.Rrtype == dns.TypeOPT:
			case stale:
				head.Ttl = staleTTL
			case head.Ttl > age:
				head.Ttl -= age
			default:
				head.Ttl = 0
			}
		}
	}
	return r
}

func keyOf(q *dns.Msg, question dns.Question) cacheKey {
	return cacheKey{strings.ToLower(question.Name), question.Qtype, isDo(q), q.CheckingDisabled}
}

// fresh returns what is kept for a question, nil for nothing, and whether it still holds.
func (s *Server) fresh(key cacheKey) (k *kept, holds bool) {
	k, ok := s.cache.get(key)
	return k, ok && time.Now().Before(k.until)
}

// lookup returns what resolvers say to a question, from the cache where it is there; nil where none can be reached. An answer that is over is given where no resolver
// answers in time (RFC 8767).
func (s *Server) lookup(ctx context.Context, q *dns.Msg, question dns.Question) (*dns.Msg, []dns.EDNS0) {
	key := keyOf(q, question)
	now := time.Now()
	before, ok := s.fresh(key)
	if ok {
		return before.told(now), nil
	}
	ok = before != nil
	ok = ok && now.Sub(before.until) < staleFor
	got := s.cache.flight.DoChan(key.String(), func() (any, error) {
		within, stop := context.WithTimeout(s.base, lookupWaits)
		defer stop()
		answer, err := s.upstream.ask(within, key)
		if err != nil {
			return nil, err
		}
		return s.cache.put(key, answer, time.Now()), nil
	})
	var late <-chan time.Time
	if ok {
		timer := time.NewTimer(staleWaits)
		defer timer.Stop()
		late = timer.C
	}
	err := errors.New("the resolvers do not answer in time")
	select {
	case result := <-got:
		if k, found := result.Val.(*kept); found && (!ok || k.answer.Rcode != dns.RcodeServerFailure) {
			return k.told(now), nil
		}
		err = result.Err
	case <-late:
	case <-ctx.Done():
		err = ctx.Err()
	}
	if ok {
		return before.told(now), said(dns.ExtendedErrorCodeStaleAnswer, "")
	}
	text := ""
	if err != nil {
		text = err.Error()
	}
	return nil, said(dns.ExtendedErrorCodeNoReachableAuthority, text)
}
