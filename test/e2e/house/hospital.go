package house

import (
	"io"
	"net/http/httptest"
	"os"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"widelark/client"
	"widelark/demo"
	"widelark/internal/testkit"
)

// Housed is a service with a pack of a few sites, some recorded traffic, and an update that waits.
func Housed(t *testing.T) (*testkit.Service, *Maker) {
	t.Helper()
	s := Server.Serve(t)
	m := NewMaker(t, s)
	s.Run(t, "", "pack", "trust", m.Key, "Harbour office").Done(t)
	s.Run(t, "", "pack", "add", "Harbour", m.URL, "--paused", "--hold", "--max-shrink", "60").Done(t)
	m.Build(t, "heron.example,games", "heron.example/news,news", "marrow-trust.test,adult", "snare.example,malware")
	s.Run(t, "", "pack", "pull", "Harbour").Done(t)
	m.Build(t, "heron.example,video", "marrow-trust.test,adult", "tern.example,chat", "snare.example,malware")
	s.Run(t, "", "pack", "pull", "Harbour").Done(t)
	_, err := s.API(t).AddSeenWithResponse(t.Context(), client.AddSeenInputBody{Pages: []client.SeenPage{
		Seen("www.heron.example/play", 40), Seen("marrow-trust.test/breast/screening", 12), Seen("nobody.example/a", 5), Seen("somebody.example", 3),
	}})
	require.NoError(t, err)
	return s, m
}

func Seen(url string, requests int64) client.SeenPage {
	page := client.SeenPage{URL: url, Requests: requests}
	page.LastOn.Time = time.Date(2026, 11, 23, 0, 0, 0, 0, time.UTC)
	return page
}

// Hospital is a service with the demo data, but a tenth of the recorded requests and of the suspect sites.
func Hospital(t testing.TB) *testkit.Service {
	t.Helper()
	return Server.ServeFilled(t, "hospital", func(s *testkit.Service) {
		files, err := os.MkdirTemp("", "widelark-hospital-")
		require.NoError(t, err)
		defer os.RemoveAll(files)
		require.NoError(t, demo.Load(t.Context(), s.API(t), demo.Loading{Dir: files, Partner: partner().URL, Requests: 20_000, Suspects: 10_000, Out: io.Discard}))
	})
}

// partner answers as the partner hospital does, for all tests and to their end.
var partner = sync.OnceValue(func() *httptest.Server { return httptest.NewServer(demo.Partner()) })

// HospitalAsLive is a service with the demo data, its draft as what is live.
func HospitalAsLive(t testing.TB) *testkit.Service {
	t.Helper()
	s := Hospital(t)
	s.Run(t, "", "discard", "--all").Done(t)
	return s
}
