package httpproxy

import (
	"bytes"
	"crypto/x509"
	"net/http"

	"widelark/internal/gate/authority"
	"widelark/internal/gate/blockpage"
)

// handOutAuthority answers with the authority's certificates, or with the page about how to trust them.
func (p *Proxy) handOutAuthority(w http.ResponseWriter, r *http.Request) {
	signs := p.signs.Load()
	if signs == nil {
		http.Error(w, "This gate opens no TLS connections: it has no authority.", http.StatusNotFound)
		return
	}
	var body bytes.Buffer
	switch r.URL.Path {
	case "/authority.pem":
		w.Header().Set("Content-Type", "application/x-pem-file")
		for _, der := range signs.trust {
			body.Write(authority.PEM(der))
		}
	case "/authority.der":
		w.Header().Set("Content-Type", "application/x-x509-ca-cert")
		body.Write(signs.trust[len(signs.trust)-1]) // the present one is the last: those to come stand first
	case "/authority":
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		w.Header().Set("Content-Security-Policy", "default-src 'none'; style-src 'unsafe-inline'")
		page := blockpage.Trust{Organisation: p.Organisation, Address: r.Host}
		for _, der := range signs.trust {
			if c, err := x509.ParseCertificate(der); err == nil {
				page.Trust = append(page.Trust, blockpage.Certificate{Name: c.Subject.CommonName, Until: c.NotAfter.In(p.Gate.Zone()).Format("2 January 2006"), Fingerprint: authority.Fingerprint(der)})
			}
		}
		body.Write(page.HTML())
	default:
		http.NotFound(w, r)
		return
	}
	_, _ = w.Write(body.Bytes())
}
