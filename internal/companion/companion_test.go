package companion

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestRead(t *testing.T) {
	hosts, err := Read(strings.NewReader(`{"log":{"entries":[
		{"request":{"url":"https://ferrow-instruments.example/order"},"response":{"status":302,"redirectURL":"https://login.pass-key.test/?back=1"}},
		{"_resourceType":"document","request":{"url":"https://login.pass-key.test/?back=1"},"response":{"status":302,"redirectURL":"/next"}},
		{"request":{"url":"https://cdn.ferrow-static.example/a.js"},"response":{"status":200,"content":{"mimeType":"text/javascript; charset=utf-8"}}},
		{"request":{"url":"https://cdn.ferrow-static.example/a.woff"},"response":{"status":0,"content":{"mimeType":"font/woff2"}}},
		{"request":{"url":"data:image/png;base64,AAAA"},"response":{"status":200}}]}}`))
	require.NoError(t, err)
	var told []string
	for _, h := range hosts {
		told = append(told, fmt.Sprint(h.Host, " ", h.Requests, h.Failed, h.Kinds, h.SentFrom, " ", h.Note(hosts[0].Host)))
	}
	assert.Equal(t, []string{
		"ferrow-instruments.example 1 0 [] [] ",
		"cdn.ferrow-static.example 2 1 [script font] [] ferrow-instruments.example loads script, font from it",
		"login.pass-key.test 1 0 [document] [ferrow-instruments.example] ferrow-instruments.example sends people on to it",
	}, told)
	for text, want := range map[string]string{
		"x": "not a HAR file", `{}`: "holds no request", `{"log":{"entries":[{"request":{"url":"data:x"}}]}}`: "no request to a web address",
	} {
		_, err := Read(strings.NewReader(text))
		assert.ErrorContains(t, err, want)
	}
}
