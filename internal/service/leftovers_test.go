package service

import (
	"context"
	"io"
	"net/http"
	"os"
	"runtime"
	"runtime/pprof"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widelark/client"
	"widelark/internal/access"
	"widelark/internal/account"
	"widelark/internal/testkit"
)

var server *testkit.Server

func TestMain(m *testing.M) { os.Exit(testkit.RunWithServer(m, &server)) }

// A service that is started, queried, edited and stopped fifty times leaves no goroutine behind, although its last edit is still being
// checked when it stops.
func TestNothingIsLeftRunning(t *testing.T) {
	config := Config{Listen: "127.0.0.1:0", TimeZone: "Europe/London", LogLevel: "error", DatabaseURL: server.Database(t)}
	token := ""
	once := func(n int) {
		listener, err := Listen(config.Listen)
		require.NoError(t, err)
		s, err := Start(t.Context(), config, listener, io.Discard, "test")
		require.NoError(t, err)
		defer func() {
			assert.NoError(t, s.Close())
			http.DefaultClient.CloseIdleConnections()
		}()
		if n == 0 {
			edda, err := s.Authenticator.Add(t.Context(), account.Account{Name: testkit.Name, FullName: "Edda Marsh"}, testkit.Password, access.Setup)
			require.NoError(t, err)
			_, token, err = s.Authenticator.AddToken(t.Context(), account.Token{Name: "test"}, edda.Actor())
			require.NoError(t, err)
		}
		api, err := client.New(s.URL, token)
		require.NoError(t, err)
		tried, err := api.TryUrlsWithResponse(t.Context(), client.TrialsInputBody{Urls: []string{"heron.example", "tern.example"}})
		require.NoError(t, err)
		require.Len(t, tried.JSON200.Trials, 2)
		if n%5 == 0 {
			made, err := api.CreateListWithResponse(t.Context(), client.NewListInputBody{Name: "Suspects " + strings.Repeat("i", n)})
			require.NoError(t, err)
			require.NotNil(t, made.JSON201)
		}
		gone, cancel := context.WithCancel(t.Context())
		cancel()
		_, err = api.GetReviewWithResponse(gone)
		require.ErrorIs(t, err, context.Canceled, "a caller who goes away")
	}
	once(0) // what the libraries keep for good is there after the first
	before := runtime.NumGoroutine()
	for n := 1; n <= 50; n++ {
		once(n)
	}
	for deadline := time.Now().Add(testkit.Patience); runtime.NumGoroutine() > before && time.Now().Before(deadline); {
		time.Sleep(testkit.Look) // those that end are given time for it
	}
	if left := runtime.NumGoroutine(); left > before {
		var stacks strings.Builder
		require.NoError(t, pprof.Lookup("goroutine").WriteTo(&stacks, 1))
		t.Fatalf("%d goroutines, %d before:\n%s", left, before, stacks.String())
	}
}
