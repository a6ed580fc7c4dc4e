package service

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/google/uuid"

	"widelark/core/policy"
	"widelark/internal/edition"
	"widelark/internal/gate"
	"widelark/internal/gate/authority"
	"widelark/internal/journal"
	"widelark/internal/secret"
	"widelark/internal/standing"
)

// How often gates of this process are given what is in force, and the authority that signs.
const (
	feedEvery  = 500 * time.Millisecond
	renewEvery = 2 * time.Second
)

// mostWaiting is how many records wait in memory while the database does not take them.
const mostWaiting = 200_000

// running is a gate that runs in this process.
type running struct {
	gate    *gate.Gate
	address string // where clients reach it
	told    []string
	records *journal.Writer
	log     *slog.Logger
	sign    func(*authority.Authority, [][]byte) // gives it the authority that signs, and what clients are to trust
	news    func(*gate.Report)                   // fills in what the protocol says of itself
	end     func() error                         // ends what it serves

	failed  chan<- error
	working context.Context // ends with close
	stop    func()
	work    sync.WaitGroup
	writing sync.WaitGroup
	stopped func() // ends the writing of records
}

// parts are what a gate stands on: of the service, or of a gate elsewhere.
type parts struct {
	name    string
	desk    gate.Desk
	records journal.Batches
	now     func() time.Time
	log     *slog.Logger
	failed  chan<- error

	open  bool           // whether what comes before the first edition is let through
	begin func(*running) // called before the gate serves anybody
}

// settings are the settings of a gate, read; its addresses are reserved.
type settings interface {
	start(config Config, p parts) *running
	close() error // gives the addresses back
}

// readGates reads the settings of the gates that are wanted, by their kinds.
func (c Config) readGates(kinds []policy.Gate) (read map[policy.Gate]settings, err error) {
	read = map[policy.Gate]settings{}
	for _, kind := range kinds {
		var one settings
		switch kind {
		case policy.Proxy:
			one, err = c.readProxy()
		case policy.DNS:
			one, err = c.readDNS()
		case policy.ICAP:
			one, err = c.readICAP()
		default:
			err = fmt.Errorf("gates: %q is not a gate: there are proxy, dns and icap", kind)
		}
		if err != nil {
			for _, before := range read {
				err = errors.Join(err, before.close())
			}
			return nil, err
		}
		read[kind] = one
	}
	return read, nil
}

// kinds returns the kinds of gates that the settings name, each once.
func (c Config) kinds() (kinds []policy.Gate) {
	for _, text := range c.Gates {
		for name := range strings.SplitSeq(text, ",") {
			if kind := policy.Gate(strings.TrimSpace(name)); kind != "" && !slices.Contains(kinds, kind) {
				kinds = append(kinds, kind)
			}
		}
	}
	return kinds
}

// newRunning returns a gate that does not work yet.
func newRunning(kind policy.Gate, p parts, address string) *running {
	g := &running{gate: gate.New(kind, p.name, p.now, nil), address: address, records: journal.NewWriter(p.records, mostWaiting, p.log), log: p.log, failed: p.failed}
	g.working, g.stop = context.WithCancel(context.Background())
	g.gate.Records, g.gate.OpenWithout = g.records, p.open
	g.news = func(*gate.Report) {}
	return g
}

// begin begins to decide again what is under way, to record, and to report.
func (g *running) begin(p parts) {
	writing, stopped := context.WithCancel(context.Background())
	g.stopped = stopped
	g.writing.Go(func() { g.records.Run(writing) })
	g.work.Go(func() { g.gate.Run(g.working) })
	g.work.Go(func() { g.gate.Keep(g.working, p.desk, g.report, p.log) })
}

// serves serves until the gate is closed. told says to whoever starts it where that is.
func (g *running) serves(what, told string, serve func() error) {
	g.told = append(g.told, told)
	g.work.Go(func() {
		if err := serve(); err != nil {
			g.failed <- fmt.Errorf("%s ended: %w", what, err)
		}
	})
}

// said says where clients reach the gate.
func (g *running) said(out io.Writer) {
	for _, line := range g.told {
		fmt.Fprintln(out, line)
	}
}

// close ends the gate: first what it serves, then what it still has to record.
func (g *running) close() error {
	err := g.end()
	g.stop()
	g.work.Wait()
	g.stopped()
	g.writing.Wait()
	return err
}

// inside gives the gates of this process what is in force.
type inside struct {
	gates       []*running
	log         *slog.Logger
	editions    *edition.Editions
	facts       *standing.Source
	secret      *secret.Box // nil: the gate opens no connection
	authorities gate.Authorities
	signs       uuid.UUID // the authority that the gate has
	renewed     time.Time // when that was looked at last
}

// feed gives the gate what is in force, until the context ends.
func (g *inside) feed(ctx context.Context) {
	tick := time.NewTicker(feedEvery)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
			g.once(ctx)
		}
	}
}

// once gives the gate what is in force now.
func (g *inside) once(ctx context.Context) {
	if err := g.refresh(ctx); err != nil && ctx.Err() == nil {
		g.log.WarnContext(ctx, "the gate keeps what it has: what is in force cannot be read", "error", err)
	}
	if now := time.Now(); now.Sub(g.renewed) >= renewEvery {
		g.renewed = now
		if err := g.renewAuthority(ctx); err != nil && ctx.Err() == nil {
			g.log.WarnContext(ctx, "the gate's authority cannot be used", "error", err)
		}
	}
}

// refresh puts the live edition in force at the gate, with the standing facts beside it, if any of them has changed.
func (g *inside) refresh(ctx context.Context) error {
	ctx, stop := context.WithTimeout(ctx, time.Minute)
	defer stop()
	live, err := g.editions.On(ctx, "", "live")
	if err != nil {
		return err
	}
	facts, err := g.facts.Facts(ctx)
	if err != nil {
		return err
	}
	live = live.With(facts)
	for _, one := range g.gates {
		if e := one.gate.Edition(); e == nil || e.Snapshot != live.Snapshot {
			one.gate.Take(&gate.Edition{Revision: live.Revision, Catalogue: live.Catalogue(), Since: one.gate.Now(), Snapshot: live.Snapshot})
		}
	}
	return nil
}

// renewAuthority gives the gate the authority that signs now.
func (g *inside) renewAuthority(ctx context.Context) error {
	if g.secret == nil {
		return nil
	}
	ctx, stop := context.WithTimeout(ctx, 10*time.Second)
	defer stop()
	all, err := g.authorities.Authorities(ctx)
	if err != nil {
		return err
	}
	current := gate.Current(all, g.gates[0].gate.Now())
	if current == nil || current.ID == g.signs {
		return nil
	}
	key, err := g.secret.Open(current.Purpose(), current.SealedKey)
	if err != nil {
		return err
	}
	a, err := authority.Open(current.Certificate, key, time.Now)
	if err != nil {
		return err
	}
	for _, one := range g.gates {
		one.sign(a, gate.Trust(all, current))
	}
	g.signs = current.ID
	return nil
}

// report returns what the gate says of itself.
func (g *running) report() gate.Report {
	r := g.gate.Report()
	r.Address = g.address
	g.news(&r)
	r.Written, r.Waiting, r.Dropped = g.records.Written(), int64(g.records.Waiting()), g.records.Dropped()
	return r
}
