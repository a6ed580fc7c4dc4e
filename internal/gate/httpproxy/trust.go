package httpproxy

import (
	"bytes"
	"crypto/x509"
	_ "embed"
	"html/template"
	"net/http"

	"widelark/internal/gate/authority"
)

//go:embed trust.html
var trustSource string

var trustPage = template.Must(template.New("trust").Parse(trustSource))

// trusted is a certificate on the page about the authority.
type trusted struct{ Name, Until, Fingerprint string }

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
		page := struct {
			Organisation, Address string
			Trust                 []trusted
		}{Organisation: p.Organisation, Address: r.Host}
		for _, der := range signs.trust {
			if c, err := x509.ParseCertificate(der); err == nil {
				page.Trust = append(page.Trust, trusted{c.Subject.CommonName, c.NotAfter.In(p.Zone).Format("2 January 2006"), authority.Fingerprint(der)})
			}
		}
		_ = trustPage.Execute(&body, page) // the template is a constant, and page holds text only
	default:
		http.NotFound(w, r)
		return
	}
	_, _ = w.Write(body.Bytes())
}
