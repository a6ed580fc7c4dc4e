package httpproxy

import (
	"bytes"
	"fmt"
	"io"
	"mime/multipart"
	"net"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widelark/core/policy"
	"widelark/internal/gate"
)

// bound has the stand's gate allow everything with provisos.
func (s *stand) bound(with policy.Provisos) {
	s.proxy.Gate.Take(&gate.Edition{Revision: 2, Snapshot: policy.New(policy.Config{
		Zone: time.UTC, Way: policy.ByProxy,
		Fallback: &policy.Policy{Name: "Fallback", Otherwise: policy.Block, Inspect: policy.Inspection{All: true}, Rules: []policy.Rule{{Name: "Bound", Then: policy.Allow, With: with}}},
	})})
}

// Where nothing may be uploaded, forms are sent as before, and what is longer or has a file in it is refused before the site has seen any of it.
func TestNoUploads(t *testing.T) {
	var arrived int64
	s, plain, opened := origins(t, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		n, _ := io.Copy(io.Discard, r.Body)
		arrived = n
		_, _ = fmt.Fprint(w, "got ", n)
	}))
	s.bound(policy.Provisos{NoUploads: true})
	form := func(file string) (body, media string) {
		var b bytes.Buffer
		w := multipart.NewWriter(&b)
		require.NoError(t, w.WriteField("name", "tide"))
		if file != "" {
			part, err := w.CreateFormFile("map", file)
			require.NoError(t, err)
			_, _ = part.Write([]byte("x"))
		}
		require.NoError(t, w.Close())
		return b.String(), w.FormDataContentType()
	}
	fields, fieldsType := form("")
	file, fileType := form("tide.png")
	const text = "text/plain"
	c := s.through(t)
	for _, row := range []struct {
		method, body, media string
		chunked             bool
		refused             string // what the answer says
	}{
		{"POST", "q=tide", text, false, ""},
		{"POST", "q=tide", text, true, ""},
		{"POST", "", text, false, ""},
		{"POST", strings.Repeat("x", MostForm), text, false, ""},
		{"POST", strings.Repeat("x", MostForm), text, true, ""},
		{"POST", strings.Repeat("x", MostForm+1), text, false, "more than 8 kB are sent"},
		{"PUT", strings.Repeat("x", MostForm+1), text, true, "more than 8 kB are sent"},
		{"PATCH", strings.Repeat("x", 3<<20), text, true, "more than 8 kB are sent"},
		{"DELETE", strings.Repeat("x", MostForm+1), text, false, ""},
		{"POST", fields, fieldsType, false, ""},
		{"POST", file, fileType, false, "a file is sent"},
		{"POST", file, fileType, true, "a file is sent"},
		{"POST", file, "Multipart/form-data", false, "parts that cannot be read"},
		{"POST", file[:len(file)-20], fileType, false, "a file is sent"},
	} {
		for _, origin := range []string{plain, opened} {
			var body io.Reader = strings.NewReader(row.body)
			if row.chunked {
				body = io.MultiReader(body)
			}
			r, err := http.NewRequestWithContext(t.Context(), row.method, origin+"/up", body)
			require.NoError(t, err)
			r.Header.Set("Content-Type", row.media)
			arrived = -1
			answer, err := c.Do(r)
			require.NoError(t, err)
			text, err := io.ReadAll(answer.Body)
			require.NoError(t, err)
			_ = answer.Body.Close()
			what := fmt.Sprintf("%s of %d bytes, %s, chunked %v", row.method, len(row.body), row.media, row.chunked)
			if row.refused == "" {
				assert.Equal(t, fmt.Sprint("got ", len(row.body)), string(text), what)
				continue
			}
			assert.Equal(t, http.StatusForbidden, answer.StatusCode, what)
			assert.Contains(t, string(text), "Nothing may be uploaded there, and ", what)
			assert.Contains(t, string(text), row.refused, what)
			assert.EqualValues(t, -1, arrived, what)
		}
	}
}

// An answer that says that it is larger than the cap is refused; one that does not say ends there.
func TestSizeCap(t *testing.T) {
	s, plain, opened := origins(t, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		var n int
		_, _ = fmt.Sscan(r.URL.Query().Get("n"), &n)
		switch r.URL.Path {
		case "/said":
			w.Header().Set("Content-Length", fmt.Sprint(n))
		case "/part":
			w.Header().Set("Content-Range", fmt.Sprintf("bytes 0-9/%d", n))
			w.WriteHeader(http.StatusPartialContent)
			n = 10
		}
		if r.Method == http.MethodHead {
			return
		}
		for ; n > 0; n -= 10 {
			_, _ = w.Write([]byte("0123456789"))
			w.(http.Flusher).Flush()
		}
	}))
	s.bound(policy.Provisos{SizeCap: 5000})
	c := s.through(t)
	for _, row := range []struct {
		method, target string
		status, size   int
		cut            bool
	}{
		{"GET", "/said?n=5000", 200, 5000, false},
		{"GET", "/said?n=5010", 403, -1, false},
		{"HEAD", "/said?n=5010", 200, 0, false},
		{"GET", "/streamed?n=5000", 200, 5000, false},
		{"GET", "/streamed?n=90000", 200, 5000, true},
		{"GET", "/part?n=5000", 206, 10, false},
		{"GET", "/part?n=5010", 403, -1, false},
	} {
		for _, origin := range []string{plain, opened} {
			r, err := http.NewRequestWithContext(t.Context(), row.method, origin+row.target, nil)
			require.NoError(t, err)
			answer, err := c.Do(r)
			require.NoError(t, err, row.target)
			text, err := io.ReadAll(answer.Body)
			_ = answer.Body.Close()
			assert.Equal(t, row.status, answer.StatusCode, row.target)
			assert.Equal(t, row.cut, err != nil, "%s: %v", row.target, err)
			if row.size < 0 {
				assert.Contains(t, string(text), "At most 5 kB may come from there, and the answer has 5 kB.", row.target)
				continue
			}
			assert.Len(t, text, row.size, row.target)
		}
	}
}

// What is neither TLS nor HTTP goes through a tunnel only where a rule names that; a greeting that names another host is decided with both names.
func TestOtherTunnels(t *testing.T) {
	echo, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer echo.Close()
	go func() {
		for {
			conn, err := echo.Accept()
			if err != nil {
				return
			}
			go func() { _, _ = io.Copy(conn, conn); _ = conn.Close() }()
		}
	}()
	for _, opens := range []bool{false, true} {
		for trait, passes := range map[string]bool{"not-tls": true, "plain-http": false} {
			s := newStand(t, opens, false, http.NotFoundHandler())
			s.proxy.Ports = append(s.proxy.Ports, uint16(echo.Addr().(*net.TCPAddr).Port))
			s.proxy.Gate.Take(&gate.Edition{Revision: 2, Snapshot: policy.New(policy.Config{
				Zone: time.UTC, Way: policy.ByProxy,
				Fallback: &policy.Policy{Name: "Fallback", Otherwise: policy.Allow, Inspect: policy.Inspection{All: opens}, Rules: []policy.Rule{{Name: "Other", If: policy.Cond{Op: policy.HasTrait, Values: []string{trait}}, Then: policy.Allow}}},
			})})
			conn, err := net.Dial("tcp", s.address)
			require.NoError(t, err)
			_ = conn.SetDeadline(time.Now().Add(20 * time.Second))
			_, err = fmt.Fprintf(conn, "CONNECT %s HTTP/1.1\r\nHost: x\r\n\r\n", echo.Addr())
			require.NoError(t, err)
			const stands = "HTTP/1.1 200 Connection established\r\n\r\n"
			head := make([]byte, len(stands))
			_, err = io.ReadFull(conn, head)
			require.NoError(t, err)
			require.Equal(t, stands, string(head))
			_, err = conn.Write([]byte("SSH-2.0-tide\r\n"))
			require.NoError(t, err)
			back := make([]byte, len("SSH-2.0-tide\r\n"))
			_, err = io.ReadFull(conn, back)
			assert.Equal(t, passes, err == nil, "opened %v, a rule for %s: %v", opens, trait, err)
			if passes {
				assert.Equal(t, "SSH-2.0-tide\r\n", string(back))
			}
			_ = conn.Close()
		}
	}
}
