package zonefile

import (
	"bytes"
	"fmt"
	"os/exec"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widelark/core/policy"
)

func zone(open bool) *policy.Zone {
	z := policy.NewZone(open, []policy.ZoneLine{
		{Host: "heron.example", Open: false, BelowOpen: false}, {Host: "help.heron.example", Open: true, BelowOpen: true}, {Host: "gull.test", Open: false, BelowOpen: true}, {Host: "find.example", Open: true, BelowOpen: true, Instead: "calm.find.example"},
	})
	z.Unsaid = []policy.Unsaid{{What: "words of the list \"A\nB\"", Count: 3, Why: "names with a word in them cannot be listed"}}
	return z
}

func written(t *testing.T, form Form, z *policy.Zone) string {
	t.Helper()
	var b bytes.Buffer
	require.NoError(t, Write(&b, form, z, About{Who: "the group \"Nurses\"", At: time.Date(2026, 11, 24, 14, 10, 0, 0, time.UTC), From: "revision 7", Errs: policy.LeaveOpen, Origin: "rpz.lark.test", Serial: 7}))
	return b.String()
}

// Each form says what it can, and counts what it cannot in comments, of which no name of a list makes a line.
func TestForms(t *testing.T) {
	for form, want := range map[Form]string{
		RPZ: `; What Wide Lark says of names for the group "Nurses", Tue 2026-11-24 14:10 UTC, by revision 7.
; Where a rule cannot be told by a name, the name is left open.
; 
; What this form cannot say:
;        3  words of the list "A B": names with a word in them cannot be listed
$ORIGIN rpz.lark.test.
rpz.lark.test. 60 IN SOA localhost. hostmaster.localhost. 7 60 30 604800 60
rpz.lark.test. 60 IN NS localhost.
heron.example 60 CNAME .
*.heron.example 60 CNAME .
help.heron.example 60 CNAME rpz-passthru.
*.help.heron.example 60 CNAME rpz-passthru.
gull.test 60 CNAME *.
*.gull.test 60 CNAME rpz-passthru.
find.example 60 CNAME calm.find.example.
*.find.example 60 CNAME rpz-passthru.
`,
		Hosts: `#        3  words of the list "A B": names with a word in them cannot be listed
#        1  names below those that are listed: they are refused, and the file has no lines for them: they stay open
#        1  search engines with another host: safe search is not held
0.0.0.0 heron.example
0.0.0.0 gull.test
`,
		Plain: "heron.example\ngull.test\n",
	} {
		assert.True(t, strings.HasSuffix(written(t, form, zone(true)), want), "%s:\n%s", form, written(t, form, zone(true)))
	}
	assert.Contains(t, written(t, RPZ, zone(false)), "\n* 60 CNAME .\n")
	assert.Contains(t, written(t, Plain, zone(false)), "#        1  all names that are not listed: they are refused")
}

// The function for browsers says of each host what the zone says.
func TestPAC(t *testing.T) {
	node, err := exec.LookPath("node")
	if err != nil {
		t.Skip("there is no node")
	}
	for _, open := range []bool{true, false} {
		asks := &strings.Builder{}
		want := ""
		for _, host := range []string{"heron.example", "a.heron.example", "help.heron.example", "a.help.heron.example", "gull.test", "a.gull.test", "elsewhere.example", "toString", "HERON.example.", "example"} {
			fmt.Fprintf(asks, "console.log(FindProxyForURL('http://x/', %q))\n", host)
			name := strings.TrimSuffix(strings.ToLower(host), ".")
			passes := open
			switch {
			case name == "heron.example", name == "a.heron.example", name == "gull.test":
				passes = false
			case strings.HasSuffix(name, "help.heron.example"), name == "a.gull.test":
				passes = true
			}
			want += map[bool]string{true: "DIRECT\n", false: "PROXY 127.0.0.1:9\n"}[passes]
		}
		out, err := exec.CommandContext(t.Context(), node, "-e", written(t, PAC, zone(open))+asks.String()).CombinedOutput()
		require.NoError(t, err, "%s", out)
		assert.Equal(t, want, string(out))
	}
}
