package dnsgate

import (
	"bytes"
	"fmt"
	"net/netip"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/miekg/dns"
	"github.com/stretchr/testify/require"

	"widelark/bench/rounds"
	"widelark/bench/traffic"
	"widelark/core/classify"
	"widelark/core/match"
	"widelark/core/pattern"
	"widelark/core/policy"
	"widelark/demo"
	"widelark/internal/gate"
	"widelark/internal/zonefile"
)

// million is a configuration that refuses a million sites.
func million() policy.Config {
	const sites = 1_000_000
	b := match.NewBuilder(sites)
	set := b.List("wagers", "wagers")
	for i := range sites {
		b.AddNamed(set, int64(i), traffic.Site(i), pattern.AndBelow, false)
	}
	config := floor()
	config.Taxonomy = classify.Taxonomy{Families: []classify.Family{{Key: "play", Name: "Play"}}, Categories: []classify.Category{{Key: "wagers", Name: "Wagers", Family: "play"}}}
	config.Packs = []classify.Pack{{ID: "pack", Name: "Pack", Sites: b.Build()}}
	config.Policies[0].Rules = append(config.Policies[0].Rules, policy.Rule{ID: uuid.NewString(), Name: "Wagers", If: policy.Cond{Op: policy.Is, Values: []string{"wagers"}}, Then: policy.Block})
	return config
}

// second is what some times are compared with, in nanoseconds.
func second() float64 { return float64(time.Second) }

// A zone of a million names as a file, compared with a second.
func BenchmarkZoneFile(b *testing.B) {
	config := million()
	z := policy.New(config).Zone(policy.Request{Group: "nurses"}, time.Now(), policy.LeaveOpen)
	require.Greater(b, len(z.Lines()), 1_000_000)
	rounds.Values(b, func() float64 {
		var to bytes.Buffer
		to.Grow(100 << 20)
		begin := time.Now()
		require.NoError(b, zonefile.Write(&to, zonefile.RPZ, z, zonefile.About{Who: "a group", At: begin, Errs: policy.LeaveOpen, Origin: "rpz.lark.test", Serial: 1}))
		return float64(time.Since(begin))
	}, second)
}

// An edit until a resolver answers by it that has a zone of a million names, compared with a second.
func BenchmarkZoneEdit(b *testing.B) {
	config := million()
	g := gateOf(config, policy.Facts{})
	var s *Server
	at, _ := secondary(b, "bind", func(notify netip.AddrPort) (at string) {
		s, at = begin(b, Config{Gate: g, Zones: []ZoneOf{{Origin: "rpz.lark.test", Group: "Nurses", Errs: policy.LeaveOpen}}, Keys: Keys{"lark.": secret}, Notify: []netip.AddrPort{notify}})
		begin := time.Now()
		s.renew(s.zones[0])
		b.Log("made in", time.Since(begin))
		return at
	}, world(b, demo.Resolver()))
	go s.KeepZones()
	answers := func(host string) bool {
		client := dns.Client{Timeout: 5 * time.Second}
		r, _, err := client.Exchange(question(host, dns.TypeA), at)
		return err == nil && r.Rcode == dns.RcodeSuccess && len(r.Answer) > 0
	}
	begun := time.Now()
	for answers(traffic.Site(999_999)) || !answers("elsewhere.example") {
		time.Sleep(50 * time.Millisecond)
		require.Less(b, time.Since(begun), 5*time.Minute)
	}
	b.Log("the resolver has it after", time.Since(begun))
	n := 0
	rounds.Values(b, func() float64 {
		n++
		edited, host := config, traffic.Site(n*7919)
		edited.Exceptions = []policy.Exception{{ID: uuid.NewString(), Name: "Open", Entries: pattern.Keep(host), Then: policy.Allow, For: policy.Whom{Everybody: true}}}
		snapshot := policy.New(edited)
		begin := time.Now()
		g.Take(&gate.Edition{Revision: int64(1 + n), Snapshot: snapshot})
		for !answers(host) {
			time.Sleep(time.Millisecond)
			require.Less(b, time.Since(begin), time.Minute, "%v", fmt.Sprint(s.Zones()))
		}
		return float64(time.Since(begin))
	}, second)
}
