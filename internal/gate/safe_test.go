package gate

import (
	"net/http"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widelark/core/policy"
)

func TestMakeSafe(t *testing.T) {
	calm, strict, other := policy.Safe{By: policy.ByParameter, Name: "calm", Value: "1"}, policy.Safe{By: policy.ByHeader, Name: "Filter", Value: "strict"}, policy.Safe{By: policy.ByHost, Value: "calm.heron.example"}
	for _, c := range []struct {
		by       policy.Safe
		url      string
		want     string
		filtered string
	}{
		{policy.Safe{}, "http://heron.example/?calm=0", "http://heron.example/?calm=0", "no"},
		{calm, "http://heron.example/find", "http://heron.example/find?calm=1", "no"},
		{calm, "http://heron.example/find?q=a", "http://heron.example/find?q=a&calm=1", "no"},
		{calm, "http://heron.example/?calm=0&q=a", "http://heron.example/?q=a&calm=1", "no"},
		{calm, "http://heron.example/?q=a&CALM=0&calm&c%61lm=2&x&+calm=3&%zz=4", "http://heron.example/?q=a&x&calm=1", "no"},
		{calm, "http://heron.example/?&&q=%C3%BC&", "http://heron.example/?q=%C3%BC&calm=1", "no"},
		{calm, "http://heron.example/?calm=1", "http://heron.example/?calm=1", "no"},
		{calm, "http://heron.example/?calmer=0", "http://heron.example/?calmer=0&calm=1", "no"},
		{policy.Safe{By: policy.ByParameter, Name: "a&b", Value: "c d"}, "http://heron.example/", "http://heron.example/?a%26b=c+d", "no"},
		{strict, "http://heron.example/?q=a", "http://heron.example/?q=a", "strict"},
		{other, "http://heron.example/?q=a", "http://calm.heron.example/?q=a", "no"},
		{other, "https://www.heron.example:8443/", "https://calm.heron.example:8443/", "no"},
		{other, "http://[2001:db8::1]:80/", "http://calm.heron.example:80/", "no"},
	} {
		r, err := http.NewRequest("GET", c.url, nil)
		require.NoError(t, err)
		r.Header["Filter"] = []string{"no", "none"}
		MakeSafe(r, c.by)
		assert.Equal(t, c.want, r.URL.String())
		assert.Equal(t, r.URL.Host, r.Host, c.url)
		assert.Equal(t, c.filtered, r.Header.Get("Filter"), c.url)
	}
}
