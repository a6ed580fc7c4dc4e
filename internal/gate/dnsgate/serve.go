package dnsgate

import (
	"context"
	"crypto/tls"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/netip"
	"strings"
	"time"

	"github.com/google/uuid"
	"github.com/miekg/dns"

	"widelark/internal/gate"
)

// Limits of connections.
const (
	idleTimeout = 10 * time.Second // RFC 7766, section 6.2.3
	mostMessage = 64 << 10         // bytes (RFC 1035, section 4.2.2)
)

// ServeTCP answers questions until the server is closed.
func (s *Server) ServeTCP(listener net.Listener) error {
	return s.serve(&dns.Server{Listener: listener, Handler: s.over("tcp"), IdleTimeout: func() time.Duration { return idleTimeout }, MaxTCPQueries: -1})
}

// ServeTLS answers questions over TLS (RFC 7858) until the server is closed.
func (s *Server) ServeTLS(listener net.Listener, config *tls.Config) error {
	config = config.Clone()
	config.NextProtos = []string{"dot"}
	return s.serve(&dns.Server{Listener: tls.NewListener(listener, config), Handler: s.over("tls"), IdleTimeout: func() time.Duration { return idleTimeout }, MaxTCPQueries: -1})
}

func (s *Server) serve(server *dns.Server) error {
	server.TsigSecret = s.Keys
	server.MsgAcceptFunc = func(head dns.Header) dns.MsgAcceptAction {
		if head.Bits&(1<<15) != 0 {
			return dns.MsgIgnore // an answer; there would be no end to it
		}
		return dns.MsgAccept
	}
	stop := context.AfterFunc(s.base, func() { _ = server.Shutdown() })
	defer stop()
	err := server.ActivateAndServe()
	if s.base.Err() != nil {
		return nil
	}
	return err
}

// over returns what answers questions over a transport with connections.
func (s *Server) over(transport string) dns.Handler {
	return dns.HandlerFunc(func(w dns.ResponseWriter, q *dns.Msg) {
		at, err := netip.ParseAddrPort(w.RemoteAddr().String())
		if err != nil {
			return
		}
		from := at.Addr().Unmap().WithZone("")
		if s.transfer(w, q, from) {
			return
		}
		if r := s.answer(s.base, q, asker{client: gate.Client{Address: from}, from: from, over: transport}); r != nil {
			_ = w.WriteMsg(r)
		}
	})
}

// ServeHTTPS answers questions over HTTPS (RFC 8484) until the server is closed: at /dns-query, and for a person at /dns-query/TOKEN.
func (s *Server) ServeHTTPS(listener net.Listener, config *tls.Config) error {
	server := &http.Server{
		Handler: http.HandlerFunc(s.overHTTPS), TLSConfig: config, ReadHeaderTimeout: idleTimeout, IdleTimeout: 2 * time.Minute, MaxHeaderBytes: 128 << 10,
		ErrorLog: slog.NewLogLogger(s.Log.Handler(), slog.LevelDebug),
	}
	stop := context.AfterFunc(s.base, func() { _ = server.Close() })
	defer stop()
	if err := server.ServeTLS(listener, "", ""); !errors.Is(err, http.ErrServerClosed) {
		return err
	}
	return nil
}

const message = "application/dns-message"

func (s *Server) overHTTPS(w http.ResponseWriter, r *http.Request) {
	at, err := netip.ParseAddrPort(r.RemoteAddr)
	if err != nil {
		http.Error(w, "The address cannot be read.", http.StatusBadRequest)
		return
	}
	client := gate.Client{Address: at.Addr().Unmap().WithZone("")}
	token, ok := strings.CutPrefix(r.URL.Path, "/dns-query")
	token = strings.TrimPrefix(token, "/")
	if !ok {
		http.NotFound(w, r)
		return
	}
	if token != "" {
		person, known := uuid.Nil, false
		if s.Whose != nil {
			person, known = s.Whose(r.Context(), token)
		}
		if !known {
			http.NotFound(w, r)
			return
		}
		client.Person, client.SignedIn = person, true
	}
	var packed []byte
	switch {
	case r.Method == http.MethodGet:
		packed, err = base64.RawURLEncoding.DecodeString(strings.TrimRight(r.URL.Query().Get("dns"), "="))
	case r.Method == http.MethodPost && strings.EqualFold(strings.TrimSpace(strings.Split(r.Header.Get("Content-Type"), ";")[0]), message):
		packed, err = io.ReadAll(http.MaxBytesReader(w, r.Body, mostMessage))
	case r.Method == http.MethodPost:
		http.Error(w, "A question is "+message+".", http.StatusUnsupportedMediaType)
		return
	default:
		w.Header().Set("Allow", "GET, POST")
		http.Error(w, "Ask by GET or POST.", http.StatusMethodNotAllowed)
		return
	}
	if err != nil || len(packed) > mostMessage {
		http.Error(w, "The question cannot be read.", http.StatusBadRequest)
		return
	}
	a := asker{client: client, from: client.Address, over: "https"}
	out, ttl, decided := s.quick(packed, a, nil)
	if a.decided = decided; out == nil {
		q := new(dns.Msg)
		if q.Unpack(packed) != nil {
			http.Error(w, "The question cannot be read.", http.StatusBadRequest)
			return
		}
		answer := s.answer(r.Context(), q, a)
		if answer == nil {
			http.Error(w, "An answer is no question.", http.StatusBadRequest)
			return
		}
		if out, err = answer.Pack(); err != nil {
			http.Error(w, "The answer cannot be written.", http.StatusInternalServerError)
			return
		}
		ttl = freshness(answer)
	}
	w.Header().Set("Content-Type", message)
	w.Header().Set("Cache-Control", fmt.Sprintf("private, max-age=%d", ttl)) // RFC 8484, section 5.1; others may get another answer
	_, _ = w.Write(out)
}

// freshness returns for how many seconds all of an answer holds.
func freshness(r *dns.Msg) uint32 {
	least := uint32(1<<31 - 1)
	for _, section := range [][]dns.RR{r.Answer, r.Ns} {
		for _, rr := range section {
			least = min(least, rr.Header().Ttl)
		}
	}
	if len(r.Answer)+len(r.Ns) == 0 || r.Rcode != dns.RcodeSuccess && r.Rcode != dns.RcodeNameError {
		return 0
	}
	return least
}

// Close ends all that serves.
func (s *Server) Close() error {
	s.end()
	return nil
}
