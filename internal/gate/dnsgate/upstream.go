package dnsgate

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"math/rand/v2"
	"net"
	"net/netip"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/miekg/dns"
)

// Forwarder is a resolver that is asked.
type Forwarder struct {
	Address netip.AddrPort
	Name    string // of its certificate, where it is asked over TLS (RFC 7858); "" for UDP, and TCP where an answer is too long for that
}

// ParseForwarder reads a resolver: an address, with a port or not, or tls://ADDRESS#NAME.
func ParseForwarder(text string) (f Forwarder, err error) {
	at, port := strings.TrimSpace(text), "53"
	if rest, over := strings.CutPrefix(at, "tls://"); over {
		port = "853"
		var named bool
		if at, f.Name, named = strings.Cut(rest, "#"); !named || f.Name == "" {
			return f, fmt.Errorf("%q does not name the certificate: write it like tls://192.0.2.1#dns.example", text)
		}
	}
	if addr, err := netip.ParseAddr(strings.Trim(at, "[]")); err == nil {
		at = net.JoinHostPort(addr.String(), port)
	}
	if f.Address, err = netip.ParseAddrPort(at); err != nil {
		return f, fmt.Errorf("%q is not a resolver: write it like 192.0.2.1, 192.0.2.1:5353 or tls://192.0.2.1#dns.example", text)
	}
	return f, nil
}

// upstream asks resolvers: the first that is well. It is safe for concurrent use.
type upstream struct{ resolvers []*resolver }

// resolver is one that is asked, and how it fared.
type resolver struct {
	Forwarder
	failures  atomic.Int32 // in a row
	downUntil atomic.Int64 // in nanoseconds since 1970
	foldsCase atomic.Int32 // how often it did not repeat the letter case of a question

	mu   sync.Mutex
	idle []*dns.Conn // guarded by mu: over TLS
}

// How resolvers are asked.
const (
	askTimeout = 2 * time.Second
	downFirst  = 2 * time.Second // after a failure, at first and at most
	downMost   = time.Minute
	mostIdle   = 8
	mostFolds  = 3 // that often, and it is not tried any more
)

func newUpstream(forwarders []Forwarder) *upstream {
	u := &upstream{}
	for _, f := range forwarders {
		u.resolvers = append(u.resolvers, &resolver{Forwarder: f})
	}
	return u
}

var errNoResolver = errors.New("no resolver is set")

// ask asks the resolvers one after the other, those that failed lately at the end.
func (u *upstream) ask(ctx context.Context, key cacheKey) (*dns.Msg, error) {
	err := errNoResolver
	now := time.Now().UnixNano()
	for _, down := range []bool{false, true} {
		for _, r := range u.resolvers {
			if (r.downUntil.Load() > now) != down || ctx.Err() != nil {
				continue
			}
			answer, failed := r.ask(ctx, key)
			if failed == nil && answer.Rcode != dns.RcodeServerFailure && answer.Rcode != dns.RcodeRefused {
				r.failures.Store(0)
				r.downUntil.Store(0)
				return answer, nil
			}
			if failed == nil {
				failed = fmt.Errorf("%s answers %s", r.Address, dns.RcodeToString[answer.Rcode]) // for this name; the resolver is well
			} else {
				n := min(r.failures.Add(1), 6)
				r.downUntil.Store(time.Now().Add(min(downMost, downFirst<<(n-1))).UnixNano())
			}
			err = failed
		}
	}
	return nil, err
}

func (r *resolver) ask(ctx context.Context, key cacheKey) (*dns.Msg, error) {
	ctx, stop := context.WithTimeout(ctx, askTimeout)
	defer stop()
	q := new(dns.Msg)
	q.SetQuestion(key.name, key.kind)
	q.CheckingDisabled = key.cd
	q.SetEdns0(safeSize, key.do)
	if r.Name != "" {
		return r.overTLS(ctx, q)
	}
	mixes := r.foldsCase.Load() < mostFolds
	if mixes {
		q.Question[0].Name = mixed(key.name) // 64 ports and ids are fewer than that, where somebody guesses
	}
	client := dns.Client{Net: "udp", UDPSize: safeSize, Timeout: askTimeout}
	answer, _, err := client.ExchangeContext(ctx, q, r.Address.String())
	switch {
	case err != nil && ctx.Err() != nil:
		return nil, fmt.Errorf("%s does not answer: %w", r.Address, err)
	case err != nil, answer.Truncated, !sameQuestion(q, answer):
		if err == nil && !answer.Truncated && mixes && len(answer.Question) == 1 && strings.EqualFold(answer.Question[0].Name, q.Question[0].Name) {
			r.foldsCase.Add(1)
		}
		q.Question[0].Name = key.name
		client.Net = "tcp"
		if answer, _, err = client.ExchangeContext(ctx, q, r.Address.String()); err != nil {
			return nil, fmt.Errorf("%s does not answer: %w", r.Address, err)
		}
		if !sameQuestion(q, answer) {
			return nil, fmt.Errorf("%s answers another question", r.Address)
		}
	}
	return unmixed(answer, q.Question[0].Name, key.name), nil
}

// mixed returns a name with letters in upper and lower case at random, which a right answer repeats (draft-vixie-dnsext-dns0x20).
func mixed(name string) string {
	b := []byte(name)
	for i, c := range b {
		if 'a' <= c && c <= 'z' && rand.Uint32()&1 == 0 {
			b[i] = c - 'a' + 'A'
		}
	}
	return string(b)
}

func sameQuestion(q, answer *dns.Msg) bool {
	return len(answer.Question) == 1 && answer.Question[0] == q.Question[0]
}

// unmixed gives an answer the letters as they were asked for: in its names, and in where they lead, which may be written as a part of the question.
func unmixed(answer *dns.Msg, mixed, name string) *dns.Msg {
	answer.Question[0].Name = name
	put := func(text *string) {
		if strings.HasSuffix(mixed, *text) {
			*text = name[len(name)-len(*text):]
		}
	}
	for _, section := range [][]dns.RR{answer.Answer, answer.Ns, answer.Extra} {
		for _, rr := range section {
			put(&rr.Header().Name)
			switch rr := rr.(type) {
			case *dns.CNAME:
				put(&rr.Target)
			case *dns.DNAME:
				put(&rr.Target)
			case *dns.NS:
				put(&rr.Ns)
			case *dns.MX:
				put(&rr.Mx)
			case *dns.SRV:
				put(&rr.Target)
			case *dns.HTTPS:
				put(&rr.Target)
			case *dns.SVCB:
				put(&rr.Target)
			}
		}
	}
	return answer
}

// overTLS asks over a connection that is kept; where it has been closed meanwhile, over a new one.
func (r *resolver) overTLS(ctx context.Context, q *dns.Msg) (*dns.Msg, error) {
	client := dns.Client{Net: "tcp-tls", TLSConfig: &tls.Config{ServerName: r.Name, MinVersion: tls.VersionTLS12}, Timeout: askTimeout}
	for {
		conn, kept := r.take()
		var err error
		if !kept {
			if conn, err = client.DialContext(ctx, r.Address.String()); err != nil {
				return nil, fmt.Errorf("%s does not answer: %w", r.Address, err)
			}
		}
		answer, _, err := client.ExchangeWithConnContext(ctx, q, conn)
		if err == nil && !sameQuestion(q, answer) {
			err = errors.New("it answers another question")
		}
		if err == nil {
			r.give(conn)
			return answer, nil
		}
		_ = conn.Close()
		if !kept || ctx.Err() != nil {
			return nil, fmt.Errorf("%s does not answer: %w", r.Address, err)
		}
	}
}

func (r *resolver) take() (*dns.Conn, bool) {
	r.mu.Lock()
	defer r.mu.Unlock()
	last := len(r.idle) - 1
	if last < 0 {
		return nil, false
	}
	conn := r.idle[last]
	r.idle = r.idle[:last]
	return conn, true
}

func (r *resolver) give(conn *dns.Conn) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if len(r.idle) >= mostIdle {
		_ = conn.Close()
		return
	}
	r.idle = append(r.idle, conn)
}
