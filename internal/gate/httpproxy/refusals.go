package httpproxy

import (
	"slices"
	"sync"
	"time"

	"widelark/internal/gate"
)

// mostRefusals bounds how many hosts are remembered.
const mostRefusals = 1000

// refusals remembers which clients refused our certificate for which hosts. It is safe for concurrent use.
type refusals struct {
	mu     sync.Mutex
	byHost map[string]*refused // guarded by mu
}

type refused struct {
	gate.Refusal
	clients map[string]bool
}

func (l *refusals) add(host, client string, at time.Time) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.byHost == nil {
		l.byHost = map[string]*refused{}
	}
	r := l.byHost[host]
	if r == nil {
		if len(l.byHost) >= mostRefusals {
			return
		}
		r = &refused{Refusal: gate.Refusal{Host: host}, clients: map[string]bool{}}
		l.byHost[host] = r
	}
	r.Times, r.Last, r.clients[client] = r.Times+1, at, true
}

// Refusals returns the hosts for which clients refused our certificate, the last one first.
func (p *Proxy) Refusals() []gate.Refusal {
	p.learned.mu.Lock()
	defer p.learned.mu.Unlock()
	var all []gate.Refusal
	for _, r := range p.learned.byHost {
		r.Clients = len(r.clients)
		all = append(all, r.Refusal)
	}
	slices.SortFunc(all, func(a, b gate.Refusal) int { return b.Last.Compare(a.Last) })
	return all
}
