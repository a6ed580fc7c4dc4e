package query

import (
	"fmt"
	"net/netip"
	"strings"
	"sync"

	"widelark/core/match"
	"widelark/core/pattern"
	"widelark/core/weburl"
	"widelark/internal/journal/segment"
)

func addresses(c *compiler, _ *field, t *Term, v Value) (segment.Filter, error) {
	held := func(match func(netip.Addr) bool) (segment.Filter, error) {
		return segment.Has{Column: segment.Address, Match: func(value string) bool {
			at, ok := netip.AddrFromSlice([]byte(value))
			return ok && match(at.Unmap())
		}}, nil
	}
	wrong := c.mistake(v, fmt.Sprintf("%q is no address and no range, as 10.40.9.7, 10.40.0.0/16 or 10.40.9.1..10.40.9.20", v.Text), "")
	switch {
	case v.Op == Range:
		low, err := netip.ParseAddr(v.Text)
		high, highErr := netip.ParseAddr(v.To)
		if err != nil && v.Text != "" || highErr != nil && v.To != "" {
			return nil, wrong
		}
		return held(func(at netip.Addr) bool {
			return (v.Text == "" || at.BitLen() == low.BitLen() && at.Compare(low) >= 0) && (v.To == "" || at.BitLen() == high.BitLen() && at.Compare(high) <= 0)
		})
	case v.Op != Is:
		return nil, c.plain(t, v)
	case v.Text == "":
		return segment.Has{Column: segment.Address, Match: func(value string) bool { return value == "" }}, nil
	case strings.Contains(v.Text, "*"):
		is := likeFold(v.Text)
		return held(func(at netip.Addr) bool { return is(at.String()) })
	}
	if in, err := netip.ParsePrefix(v.Text); err == nil {
		return held(in.Masked().Contains)
	}
	one, err := netip.ParseAddr(v.Text)
	if err != nil {
		return nil, wrong
	}
	return held(func(at netip.Addr) bool { return at == one.Unmap() })
}

// hostOf returns the canonical form of a host in a query, or the text itself, in lower case.
func hostOf(text string) string {
	if u, err := weburl.Parse("https://" + text + "/"); err == nil && !strings.Contains(text, "*") && u.Path() == "/" {
		return u.Host()
	}
	return strings.ToLower(text)
}

func hosts(c *compiler, _ *field, t *Term, v Value) (segment.Filter, error) {
	is := like(hostOf(v.Text))
	return segment.Has{Column: segment.Origin, Match: func(origin string) bool { return is(segment.Host(origin)) }}, c.plain(t, v)
}

func sites(c *compiler, _ *field, t *Term, v Value) (segment.Filter, error) {
	name := hostOf(v.Text)
	is := like(name)
	if !strings.Contains(name, "*") {
		below := "." + name
		return segment.Has{Column: segment.Origin, Match: func(origin string) bool {
			host := segment.Host(origin)
			return host == name || strings.HasSuffix(host, below)
		}}, c.plain(t, v)
	}
	return segment.Has{Column: segment.Origin, Match: func(origin string) bool {
		for host, more := segment.Host(origin), true; more; _, host, more = strings.Cut(host, ".") {
			if is(host) {
				return true
			}
		}
		return false
	}}, c.plain(t, v)
}

func urls(c *compiler, _ *field, t *Term, v Value) (segment.Filter, error) {
	if err := c.plain(t, v); err != nil {
		return nil, err
	}
	is := likeFold(v.Text)
	if strings.Contains(v.Text, "*") {
		return segment.Page{Match: is}, nil
	}
	canonical := v.Text
	if u, err := weburl.Parse(v.Text); err == nil {
		canonical = u.String()
	}
	origin, _ := segment.Split(canonical)
	said, _ := segment.Split(v.Text)
	return segment.Page{
		Origin: func(o string) bool { return strings.EqualFold(o, origin) || strings.EqualFold(o, said) },
		Match:  func(url string) bool { return is(url) || strings.EqualFold(url, canonical) },
	}, nil
}

func paths(c *compiler, _ *field, t *Term, v Value) (segment.Filter, error) {
	is := likeFold(v.Text)
	return segment.Has{Column: segment.Rest, Match: func(rest string) bool {
		path, _, _ := strings.Cut(rest, "?")
		return is(path)
	}}, c.plain(t, v)
}

// Covering returns a filter for URLs that an entry covers in full.
func Covering(entry pattern.Pattern) segment.Filter {
	b := match.NewBuilder(1)
	b.Add(b.List("entry", "entry"), 1, pattern.Entry{Pattern: entry})
	index := b.Build()
	page := segment.Page{Match: func(url string) bool {
		u, err := weburl.Parse(url)
		return err == nil && index.Covered(u, pattern.Date{})
	}}
	if host, _ := match.HostOf(entry); host != "" {
		below := "." + host
		page.Origin = func(origin string) bool {
			h := segment.Host(origin)
			return h == host || strings.HasSuffix(h, below)
		}
		return page
	}
	var known sync.Map // whether the entry may cover anything at an origin
	page.Origin = func(origin string) bool {
		if may, ok := known.Load(origin); ok {
			return may.(bool)
		}
		u, err := weburl.Parse(origin + "/")
		may := err == nil && len(index.Memberships(nil, u, pattern.Date{}, weburl.Name)) > 0
		known.Store(origin, may)
		return may
	}
	return page
}

func covered(c *compiler, _ *field, t *Term, v Value) (segment.Filter, error) {
	if err := c.plain(t, v); err != nil {
		return nil, err
	}
	entry, err := pattern.Parse(v.Text)
	if err != nil {
		return nil, c.mistake(v, "the entry cannot be read: "+err.Error(), "")
	}
	return Covering(entry.Pattern), nil
}
