package dnsgate

import (
	"encoding/base64"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"github.com/miekg/dns"

	"widelark/core/directory"
	"widelark/core/policy"
	"widelark/internal/gate"
)

// ZoneOf is a response policy zone that other resolvers transfer from the gate: what is said of names to a group, or to whoever is at an address.
type ZoneOf struct {
	Origin  string // as rpz.lark.internal
	Group   string // its name or id
	Address netip.Addr
	Errs    policy.Erring
}

// Keys are what transfers are signed with (TSIG, RFC 8945): secrets in base64 by the names of keys, which end with a dot.
type Keys map[string]string

// ParseKeys reads keys: a name and a secret in base64 a line. Blank lines, and those that begin with #, are passed over.
func ParseKeys(text string) (Keys, error) {
	keys := Keys{}
	for n, one := range strings.Split(text, "\n") {
		fields := strings.Fields(one)
		if len(fields) == 0 || strings.HasPrefix(fields[0], "#") {
			continue
		}
		if len(fields) != 2 {
			return nil, fmt.Errorf("line %d is not a name and a secret", n+1)
		}
		if _, err := base64.StdEncoding.DecodeString(fields[1]); err != nil {
			return nil, fmt.Errorf("line %d: the secret is not in base64", n+1)
		}
		keys[dns.Fqdn(strings.ToLower(fields[0]))] = fields[1]
	}
	return keys, nil
}

// ParseZone reads a zone: ORIGIN=GROUP, or ORIGIN=ADDRESS.
func ParseZone(text string, errs policy.Erring) (z ZoneOf, err error) {
	origin, who, ok := strings.Cut(text, "=")
	z.Origin, z.Errs = strings.TrimSuffix(strings.ToLower(strings.TrimSpace(origin)), "."), errs
	if _, valid := dns.IsDomainName(z.Origin); !ok || !valid || z.Origin == "" || strings.TrimSpace(who) == "" {
		return z, fmt.Errorf("%q is not a zone: write it like rpz.lark.internal=Ward nurses, or with an address", text)
	}
	if z.Group = strings.TrimSpace(who); z.Group != "" {
		if at, err := netip.ParseAddr(z.Group); err == nil {
			z.Group, z.Address = "", at.Unmap()
		}
	}
	return z, nil
}

// What is kept of a zone, and when.
const (
	fewHosts    = 5000             // a zone of no more hosts is handed out anew with each change
	mostFresh   = 2000             // lines of the small zone, before they go into the large one
	foldAfter   = 15 * time.Minute // without a change, they go there, too
	foldGrace   = 10 * time.Minute // that they stay in the small one then: resolvers need a while for a large zone
	zoneAhead   = 10 * time.Minute // before time changes a zone, the next one is made
	keeperLooks = 50 * time.Millisecond
)

// servedZone is a zone that other resolvers transfer: a large one, and before it a small one of what has changed since. Resolvers need up to a minute to answer by another
// large zone, and some milliseconds for a small one.
type servedZone struct {
	ZoneOf
	large, small *handed

	// Of the keeper alone:
	now       *policy.Zone  // what holds
	base      *policy.Zone  // that the large zone was made of
	edition   *gate.Edition // that now was made of
	until     time.Time     // time changes nothing before
	ahead     chan *policy.Zone
	next      *policy.Zone // made ahead; nil for none
	nextFor   time.Time    // the moment that ahead makes one for
	held      []string     // hosts that stay in the small zone, by host from the right
	heldUntil time.Time
	changedAt time.Time
}

// smallOrigin returns the origin of the small zone that belongs before a large one.
func smallOrigin(origin string) string { return "changes-" + origin }

func newServedZone(of ZoneOf, page []netip.Addr) *servedZone {
	return &servedZone{ZoneOf: of, large: newHanded(of.Origin, page), small: newHanded(smallOrigin(of.Origin), page), ahead: make(chan *policy.Zone, 1)}
}

// KeepZones makes the zones anew whenever an edition, a standing fact or time changes them, and tells those who transfer them, until the server is closed.
func (s *Server) KeepZones() {
	tick := time.NewTicker(keeperLooks)
	defer tick.Stop()
	for {
		for _, z := range s.zones {
			for _, changed := range s.renew(z) {
				s.notify(changed)
			}
		}
		select {
		case <-s.base.Done():
			return
		case <-tick.C:
		}
	}
}

// renew makes a zone anew if that is needed, and returns what others have to be told of.
func (s *Server) renew(z *servedZone) (changed []*handed) {
	e, now := s.Gate.Edition(), s.Gate.Now()
	if e == nil {
		return nil
	}
	if e == z.edition && now.Before(z.until) {
		s.makeAhead(z, now)
		switch held := len(z.held) > 0; {
		case held && now.After(z.heldUntil):
			return z.handOut(z.now, now, false)
		case !held && now.Sub(z.changedAt) > foldAfter && len(z.small.hosts()) > 0:
			return z.handOut(z.now, now, true)
		}
		return nil
	}
	known := z.edition
	z.edition, z.until = e, e.Snapshot.Quiet(now)
	r, ok := z.asker(e)
	if !ok {
		if known != e {
			s.Log.WarnContext(s.base, "a zone is for a group that is not there; it stays as it is", "zone", z.Origin, "group", z.Group)
		}
		return nil
	}
	s.takeAhead(z)
	before := z.now
	if z.next != nil && !z.next.At().After(now) {
		before, z.next = z.next, nil
	}
	if before == nil || before.Asker().Group != r.Group {
		z.now = e.Snapshot.Zone(r, now, z.Errs)
	} else {
		z.now = e.Snapshot.ZoneAfter(before, now)
	}
	return z.handOut(z.now, now, false)
}

// asker returns whom a zone is for; false where there is no such group.
func (z *servedZone) asker(e *gate.Edition) (r policy.Request, ok bool) {
	r.Addr = z.Address
	if z.Group == "" {
		return r, true
	}
	groups := e.Snapshot.Config().Directory.Groups
	at := slices.IndexFunc(groups, func(g directory.Group) bool { return g.ID == z.Group || strings.EqualFold(g.Name, z.Group) })
	if at < 0 {
		return r, false
	}
	r.Group = groups[at].ID
	return r, true
}

// makeAhead makes the next zone before time changes this one, beside the keeper.
func (s *Server) makeAhead(z *servedZone, now time.Time) {
	s.takeAhead(z)
	if z.now == nil || z.nextFor.Equal(z.until) || now.Before(z.until.Add(-zoneAhead)) {
		return
	}
	z.nextFor = z.until
	e, from, until := z.edition, z.now, z.until
	go func() {
		next := e.Snapshot.ZoneAfter(from, until)
		next.Lines() // they take a while, too
		z.ahead <- next
	}()
}

// takeAhead takes what was made ahead, if it is ready.
func (s *Server) takeAhead(z *servedZone) {
	select {
	case z.next = <-z.ahead:
	default:
	}
}

// handOut hands out what holds, and returns the zones that have changed by that: the small one, or the large one where the small one would be too large, or fold says so.
func (z *servedZone) handOut(next *policy.Zone, now time.Time, fold bool) (changed []*handed) {
	if now.After(z.heldUntil) {
		z.held = nil
	}
	small, ok := (*policy.Zone)(nil), false
	if z.base != nil {
		small, ok = next.Since(mostFresh, z.held, z.base)
	}
	if !ok || fold || next.Size() <= fewHosts {
		z.held, z.heldUntil = z.small.hosts(), now.Add(foldGrace)
		if z.base = next; z.large.replace(next, now) {
			changed = append(changed, z.large)
		}
		if small, ok = next.Since(mostFresh, z.held, next); !ok {
			small = policy.NewZone(true, nil)
		}
	}
	if z.small.replace(small, now) {
		changed = append(changed, z.small)
	}
	if len(changed) > 0 {
		z.changedAt = now
	}
	return changed
}

// Zones says what is handed out, and who took it.
func (s *Server) Zones() (all []gate.Zone) {
	for _, z := range s.zones {
		who := z.Group
		if z.Address.IsValid() {
			who = z.Address.String()
		}
		all = append(all, z.large.report(who), z.small.report(who))
	}
	return all
}

// zoneAt returns what is handed out under an origin; nil for none.
func (s *Server) zoneAt(name string) *handed {
	name = strings.TrimSuffix(strings.ToLower(name), ".")
	for _, z := range s.zones {
		switch name {
		case z.Origin:
			return z.large
		case z.small.about.Origin:
			return z.small
		}
	}
	return nil
}
