package match

import (
	"strconv"
	"strings"
	"sync"

	"widelark/core/memory"
	"widelark/core/pattern"
	"widelark/core/weburl"
)

// question is a URL in the forms that patterns are matched against. Each form is computed once, when first needed, so that
// plain lists cost no more than the host. Parts that a sight does not show are left out of the forms: see the accessors.
type question struct {
	url   weburl.URL
	sight weburl.Sight

	name, unicode                            string
	text, path, hay, decodedPath, decodedQry []byte // buffers that are used again
	target                                   int    // where in text the path begins
	hasName, hasUnicode, hasPath             bool
	hasText, hasDecoded, hasHay              bool
}

func (q *question) reset(u *weburl.URL, sight weburl.Sight) {
	q.url, q.sight = *u, sight
	q.text, q.path, q.hay, q.decodedPath, q.decodedQry = q.text[:0], q.path[:0], q.hay[:0], q.decodedPath[:0], q.decodedQry[:0]
	q.hasName, q.hasUnicode, q.hasPath, q.hasText, q.hasDecoded, q.hasHay = false, false, false, false, false, false
	q.name = "" // what beforeSuffix leaves for an address
}

// scheme returns the scheme; "" if it is not known.
func (q *question) scheme() string {
	switch q.sight {
	case weburl.Name:
		return ""
	case weburl.Tunnel:
		return "https"
	}
	return q.url.Scheme()
}

// beforeSuffix returns the host without its public suffix; "" where it is an address, or nothing else.
func (q *question) beforeSuffix() string {
	if !q.hasName && !q.url.Addr().IsValid() {
		q.name, _ = weburl.SplitSuffix(q.url.Host())
	}
	q.hasName = true
	return q.name
}

// unicodeHost returns the host in Unicode form, in lower case. It allocates if that is not the ASCII form.
func (q *question) unicodeHost() string {
	if !q.hasUnicode {
		q.unicode, q.hasUnicode = q.url.Host(), true
		if strings.Contains(q.unicode, "xn--") {
			q.unicode = strings.ToLower(weburl.Unicode(q.unicode))
		}
	}
	return q.unicode
}

// foldedPath returns the path as paths are compared, without a final slash. Precondition: sight is weburl.Full.
func (q *question) foldedPath() []byte {
	if !q.hasPath {
		q.path, q.hasPath = weburl.AppendFolded(q.path, q.url.Path()), true
		if q.path[len(q.path)-1] == '/' {
			q.path = q.path[:len(q.path)-1]
		}
	}
	return q.path
}

// canonical returns the canonical URL and, within it, path and query. At lesser sights it ends with the "/" of the path, and is
// the common beginning of all URLs that could have been asked for; at Name, over https and its default port.
func (q *question) canonical() (url, target []byte) {
	if !q.hasText {
		q.hasText = true
		scheme := q.scheme()
		if scheme == "" {
			scheme = "https"
		}
		q.text = append(append(append(q.text, scheme...), "://"...), q.url.Host()...)
		if port := q.url.Port(); q.sight != weburl.Name && (scheme != "https" || port != 443) && (scheme != "http" || port != 80) {
			q.text = strconv.AppendUint(append(q.text, ':'), uint64(port), 10)
		}
		q.target = len(q.text)
		if q.sight != weburl.Full {
			q.text = append(q.text, '/')
		} else {
			q.text = append(q.text, q.url.Path()...)
			if q.url.Query() != "" {
				q.text = append(append(q.text, '?'), q.url.Query()...)
			}
		}
	}
	return q.text, q.text[q.target:]
}

// decoded returns path and query as words are looked for in them. Precondition: sight is weburl.Full.
func (q *question) decoded() (path, query []byte) {
	if !q.hasDecoded {
		q.hasDecoded = true
		q.decodedPath = pattern.AppendDecoded(q.decodedPath, q.url.Path(), false)
		q.decodedQry = pattern.AppendDecoded(q.decodedQry, q.url.Query(), true)
	}
	return q.decodedPath, q.decodedQry
}

// haystack returns all forms concatenated, in lower case, for the sieve to search.
func (q *question) haystack() []byte {
	if q.hasHay {
		return q.hay
	}
	q.hasHay = true
	url, target := q.canonical()
	q.hay = append(q.hay, url...)
	mixed := false // the decoded forms differ from the plain ones by more than letter case
	for i, c := range q.hay {
		switch {
		case c >= 'A' && c <= 'Z':
			q.hay[i] = c + 'a' - 'A'
		case c == '%', c == '+' && i > len(url)-len(target):
			mixed = true
		}
	}
	if host := q.unicodeHost(); len(host) != len(q.url.Host()) || host != q.url.Host() {
		q.hay = append(append(q.hay, '\n'), host...)
	}
	if q.sight == weburl.Full && mixed {
		path, query := q.decoded()
		q.hay = append(append(append(append(q.hay, '\n'), path...), '\n'), query...)
	}
	return q.hay
}

// scratch is the working memory of one question. It is reused, so that asking allocates nothing.
type scratch struct {
	question question
	takes    []Take

	// The part that is being asked.
	part  *part
	at    int32
	today pattern.Date
	all   bool

	spots []spot // see hostSpots
	ends  []spot // of a host without what may be its public suffix

	stamps []uint32 // of the scans of the part: twice the turn when it was tried, one more when it was taken
	turn   uint32
	ids    []int32
}

var scratches = sync.Pool{New: func() any { return &scratch{} }}

// begin readies the stamps for another part.
func (s *scratch) begin(scans int) {
	if s.turn++; s.turn > 1<<30 || len(s.stamps) < scans {
		s.turn, s.stamps = 1, make([]uint32, max(scans, len(s.stamps)))
	}
}

// take files one entry.
func (s *scratch) take(n uint32, list int32, out bool, answer Answer) {
	s.takes = append(s.takes, Take{List: s.part.listOf[list], CarveOut: out, Unclear: answer != Yes, part: s.at, ref: n})
}

// takeEntry files an entry that covers by its host, if it is in force and its conditions hold. It reports whether it did with Yes.
func (s *scratch) takeEntry(n int32, answer Answer) bool {
	f := &s.part.kept[n]
	if answer = both(answer, s.part.meets(f.conditions, &s.question)); answer == No || !s.inForce(f) {
		return false
	}
	s.take(uint32(n)|keptBit, f.list, f.entry.CarveOut, answer)
	return answer == Yes
}

func (s *scratch) inForce(f *keptEntry) bool {
	if s.part.gone != nil {
		if _, gone := s.part.gone[f.id]; gone {
			return false
		}
	}
	return f.entry.InForce(s.today)
}

// both is the "and" of three-valued logic.
func both(a, b Answer) Answer {
	switch {
	case a == No || b == No:
		return No
	case a == CannotTell || b == CannotTell:
		return CannotTell
	}
	return Yes
}

// namesOnly reports whether nothing but the host has to be looked at.
func (x *base) namesOnly() bool {
	return len(x.conditions) == 0 && x.ranges.Len() == 0 && len(x.sieve.scans) == 0 && !x.ending
}

// ask collects the takes of the part.
func (x *part) ask(s *scratch) {
	q := &s.question
	if addr := q.url.Addr(); addr.IsValid() {
		x.ranges.Each(addr, func(at int32) bool {
			for ; at >= 0; at = x.kept[at].next {
				s.takeEntry(at, Yes)
			}
			return true
		})
	} else {
		x.walk(s, q.url.Host())
		if x.ending {
			x.walkEndings(s, q.url.Host())
		}
	}
	if len(x.sieve.scans) > 0 {
		s.begin(len(x.sieve.scans))
		x.sieve.ask(s)
		if q.sight != weburl.Full {
			x.askBlind(s)
		}
	}
}

// walk looks a host and those above it up.
func (x *part) walk(s *scratch, host string) {
	spots := s.hostSpots(host)
	if len(x.names.lines) > 0 && len(spots) > 0 {
		if x.names.short || len(spots) == 1 {
			x.below(s, host, spots[:1], 0)
		}
		for depth := 1; depth < len(spots); depth++ {
			if x.below(s, host, spots, depth); !x.names.isCrowded(spots[depth].h) {
				break
			}
		}
	}
	if x.beside {
		for _, spot := range spots {
			for kind, key := range [...]uint64{nameKey: finish(spot.h, nameKey), hostKey: spot.pagesKey()} {
				for n, at, ok := x.table.first(key); ok; n, at, ok = x.table.next(key, at) {
					x.file(s, n, byte(kind), host, spot)
				}
			}
		}
	}
}

// below collects the entries at the spots of a host that are no higher than the one at a depth, as far as they are in the lines of
// that one.
func (x *part) below(s *scratch, host string, spots []spot, depth int) {
	t := &x.names
	at := t.home(spots[depth].h)
	spots = spots[depth:]
	for range ownLines {
		l := &t.lines[at]
		found := uint64(0) // one branch for all that is sought: a branch for each is guessed wrongly more often
		for i := range spots {
			found |= l.holding(fingerprint(spots[i].key(), depth))
			if x.paths {
				found |= l.holding(fingerprint(spots[i].pagesKey(), depth))
			}
		}
		if found != 0 {
			x.inLine(s, l, host, spots, depth)
		}
		if l.len() < lineSlots {
			return
		}
		if at++; at == len(t.lines) {
			at = 0
		}
	}
}

// inLine collects the entries that the slots of a line refer to and that lie below the name at a depth, which is that of the first of the spots.
func (x *part) inLine(s *scratch, l *line, host string, spots []spot, depth int) {
	for _, spot := range spots {
		for found := l.holding(fingerprint(spot.key(), depth)); found != 0; found &= found - 1 {
			x.file(s, l.refers(slotOf(found)), nameKey, host, spot)
		}
		if !x.paths {
			continue
		}
		for found := l.holding(fingerprint(spot.pagesKey(), depth)); found != 0; found &= found - 1 {
			x.file(s, l.refers(slotOf(found)), hostKey, host, spot)
		}
	}
}

// file collects the entry that a slot refers to, if it is about the part of a host that begins at a spot.
func (x *part) file(s *scratch, n uint32, kind byte, host string, spot spot) {
	if name, below := host[spot.at:], spot.at > 0; kind == nameKey {
		x.take(s, n, nameKey, name, nil, below)
	} else {
		x.pages(s, n, spot.h, name, below)
	}
}

// hostSpots returns the places in the host where labels begin, from the right. They are found once for all parts.
func (s *scratch) hostSpots(host string) []spot {
	if len(s.spots) == 0 {
		s.spots = appendSpots(s.spots, memory.Bytes(host))
	}
	return s.spots
}

// walkEndings looks the name before the public suffix up, and those above it. Where the suffix begins costs more to find out than
// to look up every place where it might, so that is asked only where something stands under a name.
func (x *part) walkEndings(s *scratch, host string) {
	for end := 1; end < len(host); end++ {
		if host[end] != '.' {
			continue
		}
		s.ends = appendSpots(s.ends[:0], memory.Bytes(host[:end]))
		for _, spot := range s.ends {
			k := finish(spot.h, endingKey)
			for n, at, ok := x.table.first(k); ok && len(s.question.beforeSuffix()) == end; n, at, ok = x.table.next(k, at) {
				x.take(s, n, endingKey, host[spot.at:end], nil, spot.at > 0)
			}
		}
	}
}

// take collects the entry that a slot refers to, if it is about a host and, for pathKey, a path.
func (x *part) take(s *scratch, n uint32, kind byte, name string, path []byte, below bool) {
	if n&keptBit == 0 {
		r := x.ref(n)
		if kind != nameKey || string(r.name) != name || !inScope(r.scope(), below) {
			return
		}
		if x.gone != nil {
			if _, gone := x.gone[x.lists[r.list].from+int64(r.entry)]; gone {
				return
			}
		}
		s.take(n, int32(r.list), r.bits&isCarveOut != 0, Yes)
		return
	}
	for f := int32(n &^ keptBit); f >= 0; f = x.kept[f].next {
		p := &x.kept[f].entry.Pattern
		if p.EveryEnding() != (kind == endingKey) || p.Name() != name || kind != endingKey && x.kept[f].start(x.base) != string(path) {
			break // another key with the same hash
		}
		if inScope(p.Scope(), below) {
			s.takeEntry(f, Yes)
		}
	}
}

// start returns the path that is part of the entry's key; "" if the host alone is the key.
func (f *keptEntry) start(x *base) string {
	if f.conditions < 0 {
		return ""
	}
	return x.conditions[f.conditions].start
}

// pages files the entries for literal pages of a host, whose running hash is h and for which a slot refers to a chain of all of them:
// from the root of the path on, or, where the path is out of sight, all.
func (x *part) pages(s *scratch, n uint32, h uint64, name string, below bool) {
	if n&keptBit == 0 {
		return
	}
	f := int32(n &^ keptBit)
	if x.kept[f].entry.Pattern.Name() != name || x.kept[f].start(x.base) == "" {
		return // another key with the same hash
	}
	q := &s.question
	if q.sight != weburl.Full {
		for ; f >= 0; f = x.kept[f].host {
			if inScope(x.kept[f].entry.Pattern.Scope(), below) {
				s.takeEntry(f, Yes)
			}
		}
		return
	}
	path := q.foldedPath()
	for at := 0; at < len(path); {
		end := segmentEnd(path, at)
		h = hashOn(h, path[at:end])
		k := finish(h, pathKey)
		for n, at, ok := x.table.first(k); ok; n, at, ok = x.table.next(k, at) {
			x.take(s, n, pathKey, name, path[:end], below)
		}
		at = end
	}
}

// inScope reports whether a host that is the named one, or lies below it, is covered.
func inScope(scope pattern.Scope, below bool) bool {
	return scope == pattern.AndBelow || (scope == pattern.BelowOnly) == below
}
