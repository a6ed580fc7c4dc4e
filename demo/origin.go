package demo

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"math/big"
	"net"
	"net/http"
	"sync"
	"time"
)

// origin answers TLS for every site of the demo.
type origin struct {
	pem         []byte // its authority's certificate
	certificate *x509.Certificate
	key         *ecdsa.PrivateKey
	serial      int64
	mu          sync.Mutex
	kept        map[string]*tls.Certificate // guarded by mu, as is serial
	taken       chan net.Conn
}

// newOrigin returns an origin whose sites a handler serves. It serves until the process ends.
func newOrigin(handler http.Handler) (*origin, error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, err
	}
	template := &x509.Certificate{
		SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "The invented web of Quillmere"}, NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().AddDate(1, 0, 0),
		IsCA: true, BasicConstraintsValid: true, KeyUsage: x509.KeyUsageCertSign,
	}
	der, err := x509.CreateCertificate(rand.Reader, template, template, &key.PublicKey, key)
	if err != nil {
		return nil, err
	}
	o := &origin{pem: pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}), key: key, serial: 1, kept: map[string]*tls.Certificate{}, taken: make(chan net.Conn)}
	if o.certificate, err = x509.ParseCertificate(der); err != nil {
		return nil, err
	}
	config := &tls.Config{MinVersion: tls.VersionTLS12, NextProtos: []string{"h2", "http/1.1"}, GetCertificate: o.issue}
	server := &http.Server{Handler: handler, ReadHeaderTimeout: 10 * time.Second, ConnContext: func(ctx context.Context, c net.Conn) context.Context {
		if opened, ok := c.(*tls.Conn); ok {
			return context.WithValue(ctx, ledKey{}, opened.NetConn().(*led).host)
		}
		return ctx
	}}
	go func() { _ = server.Serve(tls.NewListener(o, config)) }() // as long as the demo runs
	return o, nil
}

// led is a tunnel that leads to a host, whatever host is named inside.
type led struct {
	net.Conn
	host string
}

type ledKey struct{} // of the host that the tunnel of a request leads to

// tunnel takes a tunnel over, wherever it leads.
func (o *origin) tunnel(w http.ResponseWriter, r *http.Request) {
	conn, _, err := http.NewResponseController(w).Hijack()
	if err != nil {
		return
	}
	_ = conn.SetDeadline(time.Time{})
	if _, err := conn.Write([]byte("HTTP/1.1 200 Connection established\r\n\r\n")); err != nil {
		_ = conn.Close()
		return
	}
	host, _, _ := net.SplitHostPort(r.Host)
	o.taken <- &led{conn, host}
}

// issue returns a certificate for the host that a greeting names.
func (o *origin) issue(hello *tls.ClientHelloInfo) (*tls.Certificate, error) {
	o.mu.Lock()
	defer o.mu.Unlock()
	if c := o.kept[hello.ServerName]; c != nil {
		return c, nil
	}
	o.serial++
	template := &x509.Certificate{
		SerialNumber: big.NewInt(o.serial), NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().AddDate(0, 1, 0),
		KeyUsage: x509.KeyUsageDigitalSignature, ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth}, DNSNames: []string{hello.ServerName},
	}
	der, err := x509.CreateCertificate(rand.Reader, template, o.certificate, &o.key.PublicKey, o.key)
	if err != nil {
		return nil, err
	}
	c := &tls.Certificate{Certificate: [][]byte{der}, PrivateKey: o.key}
	o.kept[hello.ServerName] = c
	return c, nil
}

// Accept implements [net.Listener].
func (o *origin) Accept() (net.Conn, error) { return <-o.taken, nil }

// Close implements [net.Listener].
func (o *origin) Close() error { return nil }

// Addr implements [net.Listener].
func (o *origin) Addr() net.Addr { return &net.TCPAddr{} }
