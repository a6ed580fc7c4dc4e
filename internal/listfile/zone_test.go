package listfile

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widelark/core/pattern"
)

// What a zone refuses becomes entries, what it lets pass carve-outs; what is no name is said to be none, and stops nothing.
func TestReadZone(t *testing.T) {
	var entries, faults []string
	err := Read(strings.NewReader(`$TTL 60
$ORIGIN rpz.lark.test.
@ SOA localhost. hostmaster.localhost. 7 60 30 604800 60
@ NS localhost.
heron.example CNAME .
*.heron.example CNAME .
help.heron.example CNAME rpz-passthru.
*.help.heron.example CNAME rpz-passthru.
gull.test CNAME *.            ; the name alone
*.tern.example CNAME rpz-drop.
page.example A 192.0.2.80
*.page.example A 192.0.2.80
mixed.example CNAME rpz-passthru.
*.mixed.example CNAME .
24.0.2.0.192.rpz-ip CNAME .
ns.example.rpz-nsdname CNAME .
elsewhere.test. A 192.0.2.1
`), Options{Format: Zone}, func(l pattern.Line) error {
		if l.Err != nil {
			faults = append(faults, fmt.Sprint(l.Err))
		}
		for _, e := range l.Entries {
			entries = append(entries, e.String())
		}
		return nil
	})
	require.NoError(t, err)
	assert.Equal(t, []string{"heron.example", "! help.heron.example", "=gull.test", "*.tern.example", "page.example", "! =mixed.example", "*.mixed.example"}, entries)
	require.Len(t, faults, 2)
	assert.Contains(t, faults[0], "addresses and servers of names are no entries")
	for text, wrong := range map[string]string{"heron.example": "the zone cannot be read", "heron.example. 60 IN A 192.0.2.1\n": "does not begin with a SOA record", "$INCLUDE /etc/passwd\n": "the zone cannot be read"} {
		assert.ErrorContains(t, Read(strings.NewReader(text), Options{Format: Zone}, func(pattern.Line) error { return nil }), wrong, text)
	}
}
