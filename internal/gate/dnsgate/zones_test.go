package dnsgate

import (
	"bytes"
	"context"
	"encoding/base64"
	"fmt"
	"math/rand/v2"
	"net"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/miekg/dns"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widelark/bench/traffic"
	"widelark/core/match"
	"widelark/core/pattern"
	"widelark/core/policy"
	"widelark/core/weburl"
	"widelark/demo"
	"widelark/internal/gate"
	"widelark/internal/testkit"
	"widelark/internal/zonefile"
)

var secret = base64.StdEncoding.EncodeToString([]byte("heather and tide 7, and a bit more"))

// transferred returns what a transfer gives, as text.
func transferred(t *testing.T, at string, q *dns.Msg, key bool) (records []string, err error) {
	t.Helper()
	tr := &dns.Transfer{DialTimeout: 10 * time.Second, ReadTimeout: 10 * time.Second}
	if key {
		tr.TsigSecret = map[string]string{"lark.": secret}
		q.SetTsig("lark.", dns.HmacSHA256, 300, time.Now().Unix())
	}
	envelopes, err := tr.In(q, at)
	require.NoError(t, err)
	for e := range envelopes {
		if e.Error != nil {
			return records, e.Error
		}
		for _, rr := range e.RR {
			records = append(records, strings.Join(strings.Fields(rr.String()), " "))
		}
	}
	return records, nil
}

func axfr() *dns.Msg {
	q := new(dns.Msg)
	return q.SetAxfr("rpz.lark.test.")
}

// A zone is handed out to those who have the key, or whose address needs none; after a change only that travels, and those who transfer it are told.
func TestZones(t *testing.T) {
	var told atomic.Int64
	conn, err := net.ListenPacket("udp", "127.0.0.1:0")
	require.NoError(t, err)
	secondary := &dns.Server{PacketConn: conn, TsigSecret: map[string]string{"lark.": secret}, MsgAcceptFunc: func(dns.Header) dns.MsgAcceptAction { return dns.MsgAccept }, Handler: dns.HandlerFunc(func(w dns.ResponseWriter, q *dns.Msg) {
		if q.Opcode == dns.OpcodeNotify && q.IsTsig() != nil && w.TsigStatus() == nil && q.Question[0].Name == "rpz.lark.test." {
			told.Add(1)
		}
		r := new(dns.Msg)
		r.SetReply(q)
		r.SetTsig("lark.", dns.HmacSHA256, 300, time.Now().Unix())
		_ = w.WriteMsg(r)
	})}
	go func() { _ = secondary.ActivateAndServe() }()
	t.Cleanup(func() { _ = secondary.Shutdown() })
	keys, err := ParseKeys("# a key\nlark " + secret + "\n")
	require.NoError(t, err)
	z, err := ParseZone("rpz.lark.test=Nurses", policy.LeaveOpen)
	require.NoError(t, err)
	config := floor()
	g := gateOf(config, policy.Facts{})
	s, at := begin(t, Config{Gate: g, Zones: []ZoneOf{z}, Keys: keys, ZonesTo: []netip.Prefix{netip.MustParsePrefix("127.0.0.9/32")}, Notify: []netip.AddrPort{netip.MustParseAddrPort(conn.LocalAddr().String())}})
	go s.KeepZones()
	require.Eventually(t, func() bool { return told.Load() == 1 }, testkit.Patience, testkit.Look)

	_, err = transferred(t, at, axfr(), false)
	require.Error(t, err, "it needs the key")
	all, err := transferred(t, at, axfr(), true)
	require.NoError(t, err)
	assert.Equal(t, all[0], all[len(all)-1])
	for _, want := range []string{
		"oddsfield.example.rpz.lark.test. 60 IN CNAME .", "*.oddsfield.example.rpz.lark.test. 60 IN CNAME .", "help.oddsfield.example.rpz.lark.test. 60 IN CNAME rpz-passthru.", "*.help.oddsfield.example.rpz.lark.test. 60 IN CNAME rpz-passthru.",
		"exact.example.rpz.lark.test. 60 IN CNAME *.", "*.exact.example.rpz.lark.test. 60 IN CNAME rpz-passthru.", "find.skerry.example.rpz.lark.test. 60 IN CNAME calm.skerry.example.",
	} {
		assert.Contains(t, all, want)
	}
	serial := func() uint32 {
		return uint32(s.zones[0].large.report("").Serial)
	}
	first := serial()
	config.Lists = match.New([]match.List{{ID: "bad", Name: "Betting", Entries: pattern.Keep("oddsfield.example", "! help.oddsfield.example", "=exact.example", "fresh.example")}})
	g.Take(&gate.Edition{Revision: 2, Snapshot: policy.New(config)})
	require.Eventually(t, func() bool { return told.Load() == 2 }, testkit.Patience, testkit.Look)
	second := serial()
	ixfr := func(serial uint32) *dns.Msg {
		q := new(dns.Msg)
		return q.SetIxfr("rpz.lark.test.", serial, "ns.rpz.lark.test.", "hostmaster.rpz.lark.test.")
	}
	changes, err := transferred(t, at, ixfr(first), true)
	require.NoError(t, err)
	text := strings.Join(changes, "\n")
	assert.Less(t, len(changes), len(all))
	assert.Contains(t, text, "fresh.example.rpz.lark.test. 60 IN CNAME .")
	assert.Contains(t, text, "pebble-poker.example.rpz.lark.test. 60 IN CNAME .", "it is gone")
	assert.NotContains(t, text, "oddsfield")
	assert.Equal(t, 4, strings.Count(text, " SOA "))
	same, err := transferred(t, at, ixfr(second), true)
	require.NoError(t, err)
	assert.Len(t, same, 1, "nothing has changed")
	jump, err := transferred(t, at, ixfr(7), true)
	require.NoError(t, err)
	assert.Greater(t, len(jump), len(changes), "from a serial that nobody knows, all of it")

	// Over UDP the serial alone is told; signed as it was asked.
	soa := new(dns.Msg)
	soa.SetQuestion("rpz.lark.test.", dns.TypeSOA)
	assert.Equal(t, dns.RcodeRefused, exchange(t, at, "udp", ward, soa).Rcode)
	assert.Len(t, exchange(t, at, "udp", netip.MustParseAddr("127.0.0.9"), soa).Answer, 1)
	soa.SetTsig("lark.", dns.HmacSHA256, 300, time.Now().Unix())
	client := dns.Client{TsigSecret: map[string]string{"lark.": secret}}
	r, _, err := client.Exchange(soa, at)
	require.NoError(t, err)
	assert.Equal(t, second, r.Answer[0].(*dns.SOA).Serial)

	for _, bad := range []string{"", "rpz", "=Nurses", "rpz..x=Nurses", "rpz.x="} {
		_, err := ParseZone(bad, policy.LeaveOpen)
		assert.Error(t, err, bad)
	}
	for _, bad := range []string{"lark", "lark !!", "lark a b"} {
		_, err := ParseKeys(bad)
		assert.Error(t, err, bad)
	}
}

// program returns where a program that is for tests alone is; the test is skipped where it is nowhere.
func program(t testing.TB, name string) string {
	t.Helper()
	for _, dir := range []string{"/usr/sbin/", "/usr/bin/", "../../../.var/bind9/usr/sbin/", "../../../.var/bind9/usr/bin/", "../../../.var/unbound/usr/sbin/"} {
		if _, err := os.Stat(dir + name); err == nil {
			at, err := filepath.Abs(dir + name)
			require.NoError(t, err)
			return at
		}
	}
	t.Skip("there is no " + name + ": run `make deps`")
	return ""
}

// many is a configuration with names that cover each other in all ways, and so many others; and the names that are asked.
func many(others int) (config policy.Config, names []string) {
	config = floor()
	var entries []string
	for i := range 40 {
		entries = append(entries, fmt.Sprintf("a%d.example", i), fmt.Sprintf("! b.a%d.example", i), fmt.Sprintf("c.b.a%d.example", i), fmt.Sprintf("=d%d.test", i), fmt.Sprintf("e.f.g%d.test", i))
		names = append(names, fmt.Sprintf("a%d.example", i), fmt.Sprintf("x.a%d.example", i), fmt.Sprintf("b.a%d.example", i), fmt.Sprintf("x.b.a%d.example", i), fmt.Sprintf("c.b.a%d.example", i), fmt.Sprintf("y.c.b.a%d.example", i),
			fmt.Sprintf("d%d.test", i), fmt.Sprintf("x.d%d.test", i), fmt.Sprintf("e.f.g%d.test", i), fmt.Sprintf("f.g%d.test", i))
	}
	for i := range others {
		entries = append(entries, traffic.Site(i))
	}
	config.Lists = match.New([]match.List{{ID: "bad", Name: "Betting", Entries: pattern.Keep(entries...)}})
	return config, names
}

// secondary runs a resolver of a Debian package that takes the large zone and the small one from a primary, and returns its address.
func secondary(t testing.TB, kind string, primary func(notify netip.AddrPort) (at string), resolver Forwarder) (at string, said *bytes.Buffer) {
	t.Helper()
	found := program(t, map[string]string{"bind": "named", "unbound": "unbound"}[kind])
	dir := t.TempDir()
	free, listener := listen(t)
	port := free.LocalAddr().(*net.UDPAddr).Port
	_, _ = free.Close(), listener.Close()
	_, from, _ := strings.Cut(primary(netip.AddrPortFrom(netip.MustParseAddr("127.0.0.1"), uint16(port))), ":")
	zones := []string{"changes-rpz.lark.test", "rpz.lark.test"}
	var settings strings.Builder
	args := []string{"-d", "-c"}
	if kind == "bind" {
		args = []string{"-g", "-n", "1", "-c"}
		fmt.Fprintf(&settings, `key "lark." { algorithm hmac-sha256; secret "%s"; }; controls { };
options { directory "%s"; pid-file "%s/pid"; session-keyfile "%s/sk"; listen-on port %d { 127.0.0.1; }; listen-on-v6 { none; }; forward only;
  forwarders { 127.0.0.1 port %d; }; dnssec-validation no; empty-zones-enable no; notify no; allow-query { any; };
  response-policy { zone "%s" log yes; zone "%s" log yes; } qname-wait-recurse no min-update-interval 0; };
`, secret, dir, dir, dir, port, resolver.Address.Port(), zones[0], zones[1])
		for i, zone := range zones {
			fmt.Fprintf(&settings, `zone "%s" { type secondary; file "%d.db"; primaries { 127.0.0.1 port %s key "lark."; }; allow-notify { key "lark."; }; allow-transfer { none; }; };
`, zone, i, from)
		}
	} else {
		fmt.Fprintf(&settings, `server:
  username: ""
  chroot: ""
  directory: "%s"
  pidfile: "%s/pid"
  interface: 127.0.0.1@%d
  do-not-query-localhost: no
  module-config: "respip iterator"
  local-zone: "test." nodefault
  cache-max-ttl: 0
  use-syslog: no
remote-control:
  control-enable: no
`, dir, dir, port)
		for i, zone := range zones {
			fmt.Fprintf(&settings, "rpz:\n  name: \"%s.\"\n  primary: 127.0.0.1@%s\n  allow-notify: 127.0.0.1\n  zonefile: \"%s/%d.zone\"\n", zone, from, dir, i)
		}
		fmt.Fprintf(&settings, "forward-zone:\n  name: \".\"\n  forward-addr: 127.0.0.1@%d\n", resolver.Address.Port())
	}
	file := filepath.Join(dir, "settings.conf")
	require.NoError(t, os.WriteFile(file, []byte(settings.String()), 0o600))
	said = &bytes.Buffer{}
	cmd := exec.CommandContext(context.WithoutCancel(t.Context()), found, append(args, file)...)
	cmd.Stdout, cmd.Stderr = said, said
	require.NoError(t, cmd.Start())
	t.Cleanup(func() { _ = cmd.Process.Kill(); _ = cmd.Wait() })
	return fmt.Sprintf("127.0.0.1:%d", port), said
}

// Resolvers from Debian's packages that transfer a zone answer as the gate decides, for policies that leave the rest open and those that refuse it; and after edits, which a
// large zone gives on in a small one before it.
func TestResolversWithZones(t *testing.T) {
	resolver := world(t, demo.Resolver())
	for _, kind := range []string{"bind", "unbound"} {
		for _, others := range []int{0, fewHosts} {
			for _, closed := range []bool{false, true} {
				t.Run(fmt.Sprintf("%s, %d others, closed %v", kind, others, closed), func(t *testing.T) {
					config, names := many(others)
					if closed {
						config.Policies = slices.Clone(config.Policies)
						config.Policies[0].Otherwise = policy.Block
						config.Policies[0].Rules = []policy.Rule{{ID: uuid.NewString(), Name: "Only", If: policy.Cond{Op: policy.InList, Values: []string{"bad"}}, Then: policy.Allow}}
					}
					g := gateOf(config, policy.Facts{})
					var ahead atomic.Int64
					g.Now = func() time.Time { return time.Now().Add(time.Duration(ahead.Load())) }
					var s *Server
					at, said := secondary(t, kind, func(notify netip.AddrPort) (at string) {
						c := Config{Gate: g, Zones: []ZoneOf{{Origin: "rpz.lark.test", Group: "Nurses", Errs: policy.LeaveOpen}}, ZonesTo: []netip.Prefix{netip.MustParsePrefix("127.0.0.1/32")}, Notify: []netip.AddrPort{notify}}
						if kind == "bind" {
							c.Keys, c.ZonesTo = Keys{"lark.": secret}, nil
						}
						s, at = begin(t, c)
						s.renew(s.zones[0])
						return at
					}, resolver)
					go s.KeepZones()
					answers := func(host string) bool {
						client := dns.Client{Timeout: 5 * time.Second}
						r, _, err := client.Exchange(question(host, dns.TypeA), at)
						return err == nil && r.Rcode == dns.RcodeSuccess && len(r.Answer) > 0
					}
					decided := func(host string) bool {
						e := g.Edition().Snapshot
						return e.Decide(&policy.Work{}, &policy.Request{URL: weburl.MustParse("https://" + host + "/"), Group: "nurses", Sight: weburl.Name, Gate: policy.DNS}, time.Now()).Verdict.Passes()
					}
					ready := "a0.example" // refused by the zone in one, allowed in the other
					names = append(names, "elsewhere.example", "x.elsewhere.example", "example.net", "b.example", "heron.example", "x.heron.example", "z.y.heron.example", "new.example")
					require.Eventually(t, func() bool {
						return answers(ready) == decided(ready) && answers("elsewhere.example") == decided("elsewhere.example") && (answers(ready) || answers("elsewhere.example"))
					}, testkit.Patience, testkit.Look, "%s", said)
					agrees := func(message string) {
						t.Helper()
						differing := func() (all []string) {
							for _, host := range names {
								if decided(host) != answers(host) {
									all = append(all, host)
								}
							}
							return all
						}
						require.Eventually(t, func() bool { return len(differing()) == 0 }, testkit.Patience, testkit.Look, "%s", message)
					}
					agrees("at the beginning")
					serial := s.zones[0].large.report("").Serial
					random := rand.New(rand.NewPCG(1, 2))
					for n := range 4 {
						exceptions := []policy.Exception{
							{ID: uuid.NewString(), Name: "Open", Entries: pattern.Keep("a3.example", "elsewhere.example", "z.y.heron.example"), Then: policy.Allow, For: policy.Whom{Everybody: true}},
							{ID: uuid.NewString(), Name: "Shut", Entries: pattern.Keep("heron.example", "d4.test", "=new.example", "f.g7.test"), Then: policy.Block, For: policy.Whom{Everybody: true}},
						}
						for i := range exceptions {
							random.Shuffle(len(exceptions[i].Entries), func(a, b int) {
								exceptions[i].Entries[a], exceptions[i].Entries[b] = exceptions[i].Entries[b], exceptions[i].Entries[a]
							})
							exceptions[i].Entries = exceptions[i].Entries[:random.IntN(len(exceptions[i].Entries)+1)]
						}
						edited := config
						edited.Exceptions = exceptions
						g.Take(&gate.Edition{Revision: int64(2 + n), Snapshot: policy.New(edited)})
						agrees(fmt.Sprintf("after edit %d: %v", n, exceptions))
					}
					if others > 0 {
						report := s.Zones()
						assert.Equal(t, serial, report[0].Serial, "the large zone stays")
						assert.NotEmpty(t, report[1].Takers)
						ahead.Store(int64(foldAfter + time.Second))
						require.Eventually(t, func() bool { return s.Zones()[0].Serial != serial }, testkit.Patience, testkit.Look)
						agrees("after the small zone went into the large one")
						ahead.Add(int64(foldGrace + time.Second))
						require.Eventually(t, func() bool { return s.Zones()[1].Names == 0 }, testkit.Patience, testkit.Look)
						agrees("after the small zone is empty again")
					}
				})
			}
		}
	}
}

// Every zone that is written is one that BIND's own check accepts.
func TestZoneFiles(t *testing.T) {
	check := program(t, "named-checkzone")
	config, _ := many(0)
	for name, change := range map[string]func(*policy.Config, *zonefile.About){
		"as it is": func(*policy.Config, *zonefile.About) {}, "closed": func(c *policy.Config, _ *zonefile.About) { c.Policies[0].Otherwise = policy.Block },
		"with a page": func(c *policy.Config, a *zonefile.About) {
			c.Policies[0].Names, a.Page = policy.PageOfRefused, []netip.Addr{netip.MustParseAddr("192.0.2.80"), netip.MustParseAddr("2001:db8::80")}
		},
	} {
		config := config
		config.Policies = slices.Clone(config.Policies)
		about := zonefile.About{Who: "the group \"Nurses\"", At: time.Now(), From: "revision 1", Errs: policy.LeaveOpen, Origin: "rpz.lark.test", Serial: 7}
		change(&config, &about)
		z := policy.New(config).Zone(policy.Request{Group: "nurses"}, time.Now(), policy.LeaveOpen)
		var text bytes.Buffer
		require.NoError(t, zonefile.Write(&text, zonefile.RPZ, z, about))
		file := filepath.Join(t.TempDir(), "rpz.zone")
		require.NoError(t, os.WriteFile(file, text.Bytes(), 0o600))
		out, err := exec.CommandContext(t.Context(), check, "-i", "none", "rpz.lark.test", file).CombinedOutput()
		assert.NoError(t, err, "%s: %s", name, out)
		assert.Contains(t, string(out), "loaded serial 7")
	}
}
