package journal_test

import (
	"fmt"
	"net/netip"
	"testing"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"

	"widelark/core/policy"
	"widelark/core/weburl"
	"widelark/internal/journal"
)

// Each row is a record and the request for deciding it again, at the record's own gate and sight.
func TestRequest(t *testing.T) {
	kay := uuid.New()
	for _, row := range []struct{ gate, sight, url, want string }{
		{"dns", "name", "https://heron.example/", "dns name"},
		{"dns", "", "https://heron.example/", "dns name"},
		{"proxy", "tunnel", "https://heron.example/wards", "proxy tunnel"},
		{"proxy", "", "https://heron.example/", "proxy tunnel"},
		{"proxy", "", "https://heron.example/wards", "proxy full"},
		{"proxy", "", "https://heron.example/?q=a", "proxy full"},
		{"proxy", "", "http://heron.example/", "proxy full"},
		{"proxy", "full", "https://heron.example/", "proxy full"},
		{"icap", "", "https://heron.example/", "icap tunnel"},
	} {
		r := journal.Record{Person: kay, Address: netip.MustParseAddr("10.40.9.7"), Method: "POST", URL: row.url, Gate: policy.Gate(row.gate), Sight: weburl.Sight(row.sight)}
		q, ok := r.Request()
		assert.True(t, ok)
		assert.Equal(t, row.want, fmt.Sprint(q.Gate, " ", q.Sight), "%+v", row)
		assert.Equal(t, []any{kay.String(), r.Address, "POST", row.url}, []any{q.Person, q.Addr, q.Method, q.URL.String()})
	}
	_, ok := (&journal.Record{URL: "http://[::1"}).Request()
	assert.False(t, ok)
	q, _ := (&journal.Record{URL: "heron.example"}).Request()
	assert.Empty(t, q.Person)
}
