package journal

import (
	"bytes"
	"net/netip"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widelark/core/policy"
	"widelark/core/weburl"
)

// Records come back as they were; a line that cannot be read takes no other with it.
func TestLines(t *testing.T) {
	at := time.Date(2026, 11, 29, 12, 30, 0, 7e6, time.UTC)
	records := []Record{
		{At: at, Person: uuid.New(), Method: "GET", URL: "http://heron.example/", Gate: policy.Proxy, Sight: weburl.Full, Verdict: policy.Block, Traits: []policy.Trait{"upload"}, Ending: Ending{Outcome: Answered, Status: 403, Took: 5 * time.Millisecond}},
		{At: at, Address: netip.MustParseAddr("10.40.9.7"), Method: "CONNECT", URL: "https://tern.test/", Gate: policy.Proxy, Sight: weburl.Tunnel, Verdict: policy.Allow},
	}
	packed, err := PackLines(records)
	require.NoError(t, err)
	got, unread, err := ReadLines(bytes.NewReader(packed))
	require.NoError(t, err)
	assert.Zero(t, unread)
	assert.Equal(t, records, got)

	var mixed bytes.Buffer
	w, err := zstd.NewWriter(&mixed)
	require.NoError(t, err)
	_, err = w.Write([]byte("{\n{\"url\":\"http://gull.example/\",\"at\":\"2026-11-29T12:30:00Z\"}\nnull nonsense\n"))
	require.NoError(t, err)
	require.NoError(t, w.Close())
	got, unread, err = ReadLines(&mixed)
	require.NoError(t, err)
	assert.Equal(t, 2, unread)
	require.Len(t, got, 1)
	assert.Equal(t, "http://gull.example/", got[0].URL)

	_, _, err = ReadLines(bytes.NewReader(packed[:len(packed)/2]))
	require.Error(t, err)
	_, _, err = ReadLines(bytes.NewReader([]byte("no frame")))
	require.Error(t, err)
}
