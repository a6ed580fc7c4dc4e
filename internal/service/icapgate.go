package service

import (
	"net"
	"net/netip"

	"widelark/core/policy"
	"widelark/internal/gate/authority"
	"widelark/internal/gate/httpproxy"
	"widelark/internal/gate/icapgate"
)

// icapSettings are the settings of the ICAP gate, read.
type icapSettings struct {
	listener net.Listener
	trusted  []netip.Prefix
}

// close gives the address back that was reserved.
func (s *icapSettings) close() error { return s.listener.Close() }

// readICAP reads the settings of the ICAP gate, and reserves its address.
func (c Config) readICAP() (*icapSettings, error) {
	trusted, err := readRanges("icap-from", c.ICAPFrom)
	if err != nil {
		return nil, err
	}
	listener, err := Listen(c.ICAPListen)
	if err != nil {
		return nil, err
	}
	return &icapSettings{httpproxy.NewSeats().Listener(listener, false), trusted}, nil
}

// start starts the ICAP gate.
func (s *icapSettings) start(config Config, p parts) *running {
	g := newRunning(policy.ICAP, p, s.listener.Addr().String())
	pages := httpproxy.New(httpproxy.Config{Gate: g.gate, Organisation: config.Organisation, Log: p.log})
	server := icapgate.New(icapgate.Config{Gate: g.gate, Desk: p.desk, Pages: pages, Trusted: s.trusted, MostForm: int64(config.ProxyFormKB) * 1000, Alone: config.ICAPAlone, Log: p.log})
	g.sign = func(*authority.Authority, [][]byte) {} // it opens nothing
	g.end = func() error {
		err := server.Close()
		_ = pages.Close()
		return err
	}
	p.begin(g)
	g.begin(p)
	g.serves("the ICAP gate", "The ICAP gate is at icap://"+g.address+"/"+icapgate.Requests+" and icap://"+g.address+"/"+icapgate.Answers, func() error { return server.Serve(s.listener) })
	p.log.Info("ICAP gate", "address", g.address, "name", p.name)
	return g
}
