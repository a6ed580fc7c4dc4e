package httpproxy

import (
	"bufio"
	"bytes"
	"crypto/tls"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/summerwind/h2spec/config"
	"github.com/summerwind/h2spec/generic"
	"github.com/summerwind/h2spec/hpack"
	"github.com/summerwind/h2spec/http2"
	"github.com/summerwind/h2spec/spec"
	h2 "golang.org/x/net/http2"
	hpack2 "golang.org/x/net/http2/hpack"

	"widelark/core/weburl"
	"widelark/internal/gate"
	"widelark/internal/testkit"
)

// What a public suite asks of servers of HTTP/2 and HPACK (RFC 9113, RFC 7541), inside a connection that is opened.
func TestHTTP2(t *testing.T) {
	s, _, opened := origins(t, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		_, _ = io.Copy(io.Discard, r.Body)
		_, _ = w.Write([]byte("answer"))
	}))
	host := strings.TrimPrefix(opened, "https://")
	tunnels, err := net.Listen("tcp", "127.0.0.1:0") // the suite knows no proxies
	require.NoError(t, err)
	defer tunnels.Close()
	go func() {
		for {
			near, err := tunnels.Accept()
			if err != nil {
				return
			}
			go func() {
				defer near.Close()
				far, err := net.Dial("tcp", s.address)
				if err != nil {
					return
				}
				defer far.Close()
				_, _ = fmt.Fprintf(far, "CONNECT %s HTTP/1.1\r\nHost: %s\r\n\r\n", host, host)
				reader := bufio.NewReader(far)
				answer, err := http.ReadResponse(reader, &http.Request{Method: http.MethodConnect}) //nolint:bodyclose // the tunnel follows
				if err != nil || answer.StatusCode != http.StatusOK {
					return
				}
				go func() { _, _ = io.Copy(far, near); closeWrite(far) }()
				_, _ = io.Copy(near, reader)
			}()
		}
	}()
	c := &config.Config{Host: "127.0.0.1", Port: tunnels.Addr().(*net.TCPAddr).Port, Path: "/", Timeout: 2 * time.Second, MaxHeaderLen: 4000, TLS: true, Insecure: true}
	passed := 0
	var failed []string
	for _, group := range []*spec.TestGroup{generic.Spec(), http2.Spec(), hpack.Spec()} {
		group.Test(c)
		passed += group.PassedCount
		failed = append(failed, failures(group)...)
	}
	// Settings that are said twice are a sign of an attack, and the server hangs up. A request with a field that belongs to a connection is answered 400, which the
	// standard allows (RFC 9113, section 8.1.1) and the suite does not.
	assert.Equal(t, []string{
		"http2/6.5.3: Sends multiple values of SETTINGS_INITIAL_WINDOW_SIZE",
		"http2/8.1.2.2: Sends a HEADERS frame that contains the connection-specific header field",
		`http2/8.1.2.2: Sends a HEADERS frame that contains the TE header field with any value other than "trailers"`,
	}, failed)
	assert.GreaterOrEqual(t, passed, 140)
}

func failures(g *spec.TestGroup) (failed []string) {
	for _, tests := range [][]*spec.TestCase{g.Tests, g.StrictTests} {
		for _, one := range tests {
			if one.Result != nil && one.Result.Failed {
				failed = append(failed, g.ID()+": "+one.Desc)
			}
		}
	}
	for _, within := range g.Groups {
		failed = append(failed, failures(within)...)
	}
	return failed
}

// A client that sends its request on while it is refused gets the whole answer, and its stream is not reset.
func TestRefusedWhileSending(t *testing.T) {
	s := newStand(t, true, false, http.NotFoundHandler())
	server := httptest.NewUnstartedServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		u, err := weburl.Parse("https://site-1.example/")
		if assert.NoError(t, err) {
			s.proxy.Refuse(w, r, s.proxy.Gate.Decide(gate.Request{Client: gate.Client{Address: netip.MustParseAddr("192.0.2.1")}, URL: u, Method: r.Method}), "")
		}
	}))
	server.EnableHTTP2 = true
	server.StartTLS()
	defer server.Close()
	conn, err := tls.Dial("tcp", server.Listener.Addr().String(), &tls.Config{InsecureSkipVerify: true, NextProtos: []string{"h2"}})
	require.NoError(t, err)
	defer conn.Close()
	require.NoError(t, conn.SetDeadline(time.Now().Add(testkit.Patience)))
	_, err = io.WriteString(conn, h2.ClientPreface)
	require.NoError(t, err)
	frames := h2.NewFramer(conn, conn)
	frames.ReadMetaHeaders = hpack2.NewDecoder(4096, nil)
	var head bytes.Buffer
	fields := hpack2.NewEncoder(&head)
	for _, f := range [][2]string{{":method", "POST"}, {":scheme", "https"}, {":authority", "site-1.example"}, {":path", "/"}} {
		require.NoError(t, fields.WriteField(hpack2.HeaderField{Name: f[0], Value: f[1]}))
	}
	require.NoError(t, frames.WriteSettings())
	require.NoError(t, frames.WriteHeaders(h2.HeadersFrameParam{StreamID: 1, BlockFragment: head.Bytes(), EndHeaders: true}))
	var said []byte
	for ended := false; !ended; {
		frame, err := frames.ReadFrame()
		require.NoError(t, err)
		switch f := frame.(type) {
		case *h2.MetaHeadersFrame:
			assert.Equal(t, "403", f.PseudoValue("status"))
		case *h2.DataFrame:
			if len(said) == 0 { // the answer is there: the request goes on
				require.NoError(t, frames.WriteData(1, false, []byte("x=1&")))
				require.NoError(t, frames.WriteData(1, true, []byte("x=2")))
			}
			said, ended = append(said, f.Data()...), f.StreamEnded()
		case *h2.RSTStreamFrame:
			require.Fail(t, "the stream is reset", f.ErrCode.String())
		}
	}
	assert.Contains(t, string(said), "Not allowed here")
	require.NoError(t, frames.WritePing(false, [8]byte{1}))
	for {
		frame, err := frames.ReadFrame()
		require.NoError(t, err)
		_, reset := frame.(*h2.RSTStreamFrame)
		require.False(t, reset, "the stream is reset afterwards")
		if f, ok := frame.(*h2.PingFrame); ok && f.IsAck() {
			return
		}
	}
}
