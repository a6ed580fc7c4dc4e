package httpproxy

import (
	"context"
	"errors"
	"log/slog"
	"net"
	"net/http"
	"net/netip"
	"time"

	"widelark/core/weburl"
	"widelark/internal/gate"
	"widelark/internal/journal"
)

// ServePages answers, until the proxy is closed, whoever is led to the page's address: under every name with the page that says why it is refused to them, and under the
// gate's own with the gate's own pages. The gate decides as it does when the name is asked for.
func (p *Proxy) ServePages(listener net.Listener) error {
	server := &http.Server{
		Handler: http.HandlerFunc(p.servePages), ReadHeaderTimeout: headTimeout, IdleTimeout: idleTimeout, MaxHeaderBytes: mostHead, ErrorLog: slog.NewLogLogger(p.Log.Handler(), slog.LevelDebug),
	}
	stop := context.AfterFunc(p.base, func() { _ = server.Close() })
	defer stop()
	if err := server.Serve(listener); !errors.Is(err, http.ErrServerClosed) {
		return err
	}
	return nil
}

func (p *Proxy) servePages(w http.ResponseWriter, r *http.Request) {
	begin := time.Now()
	at, err := netip.ParseAddrPort(r.RemoteAddr)
	if err != nil {
		http.Error(w, "The address cannot be read.", http.StatusBadRequest)
		return
	}
	client := gate.Client{Address: at.Addr().Unmap().WithZone("")}
	if p.called(r) {
		p.own(w, r, client)
		return
	}
	scheme := "http://"
	if r.TLS != nil {
		scheme = "https://"
	}
	u, err := weburl.Parse(scheme + r.Host + "/")
	if err != nil || len(u.Host()) > longestHost {
		http.Error(w, "The name of the site cannot be read.", http.StatusBadRequest)
		return
	}
	d := p.Gate.Decide(gate.Request{Client: client, URL: u, Method: r.Method, Sight: p.Gate.Sees(u, false), Referrer: r.Referer(), Agent: r.UserAgent()})
	if d.Verdict.Passes() {
		w.Header().Set("Retry-After", "10")
		http.Error(w, "This site is open to you by now. What your machine knows of it is a few seconds old: open it once more.", http.StatusServiceUnavailable)
		return
	}
	a := newAnswer(w)
	size, reference := p.refuse(a, r, d, "")
	p.Gate.Record(d, journal.Ending{Outcome: journal.Answered, Reference: reference, Status: a.status, Media: a.Header().Get("Content-Type"), Size: size, Took: time.Since(begin)})
}
