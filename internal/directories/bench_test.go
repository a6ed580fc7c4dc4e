package directories_test

import (
	"fmt"
	"log/slog"
	"math/rand/v2"
	"net/netip"
	"strings"
	"testing"
	"time"

	"github.com/go-ldap/ldap/v3"
	"github.com/stretchr/testify/require"

	"widelark/bench/rounds"
	"widelark/internal/access"
	"widelark/internal/directories"
	"widelark/internal/testkit"
)

// town is ten thousand people in five hundred groups, each in some three of them; groups of a hundred hold those of the next. In its second state, every twentieth person is in another group.
func town(later bool) string {
	const suffix = "dc=quillmere,dc=example"
	draw := rand.New(rand.NewPCG(1847, 0))
	var b strings.Builder
	b.WriteString("dn: " + suffix + "\nobjectClass: dcObject\nobjectClass: organization\no: Quillmere\ndc: quillmere\n")
	members := make([][]string, 500)
	for i := range 10_000 {
		dn := fmt.Sprintf("uid=person-%d,%s", i, suffix)
		fmt.Fprintf(&b, "\ndn: %s\nobjectClass: inetOrgPerson\nuid: person-%d\ncn: Person %d\nsn: %d\nmail: person-%d@quillmere.example\n", dn, i, i, i, i)
		for range 3 {
			at := draw.IntN(500)
			if later && i%20 == 0 {
				at = (at + 1) % 500
			}
			members[at] = append(members[at], dn)
		}
	}
	for i, all := range members {
		fmt.Fprintf(&b, "\ndn: cn=group-%d,%s\nobjectClass: groupOfNames\ncn: group-%d\n", i, suffix, i)
		if i >= 100 {
			fmt.Fprintf(&b, "member: cn=group-%d,%s\n", i-100, suffix)
		}
		seen := map[string]bool{}
		for _, dn := range all {
			if !seen[dn] {
				seen[dn] = true
				fmt.Fprintf(&b, "member: %s\n", dn)
			}
		}
	}
	return b.String()
}

// A reading of ten thousand people in five hundred nested groups that is otherwise for every twentieth, until it is in force, compared with asking the LDAP server for them.
func BenchmarkDirectory(b *testing.B) {
	h := newHouse(b, func(s *directories.Settings) {
		s.Kind, s.URL, s.Base, s.MaxShrink = directories.LDAP, "ldap://localhost", "dc=quillmere,dc=example", 100
	})
	servers := []*testkit.Slapd{testkit.StartSlapdOf(b, town(false), "sizelimit unlimited"), testkit.StartSlapdOf(b, town(true), "sizelimit unlimited")}
	loopback := []netip.Prefix{netip.MustParsePrefix("127.0.0.0/8")}
	syncer := &directories.Syncer{Store: h.Store, Reader: &directories.Reader{Ranges: loopback}, Now: time.Now, Log: slog.New(slog.DiscardHandler)}
	d, err := h.Store.Directory(b.Context(), h.id)
	require.NoError(b, err)
	sync := func(i int) {
		d.URL = "ldap://" + servers[i%2].Plain
		// Entries have other keys at each server, but for their names.
		d.KeyField = "cn"
		after, err := syncer.Sync(b.Context(), d, true, access.Setup)
		require.NoError(b, err)
		require.Equal(b, "changed", string(after.Result), after.Told)
	}
	begin := time.Now()
	sync(0)
	b.Logf("the first reading took %s", time.Since(begin).Round(time.Millisecond))
	conn, err := ldap.DialURL("ldap://" + servers[0].Plain)
	require.NoError(b, err)
	defer conn.Close()
	n := 0
	rounds.Against(b, func(int) { n++; sync(n) }, func(int) {
		found, err := conn.SearchWithPaging(ldap.NewSearchRequest("dc=quillmere,dc=example", ldap.ScopeWholeSubtree, ldap.NeverDerefAliases, 0, 0, false, "(objectClass=*)", nil, nil), 500)
		require.NoError(b, err)
		require.Len(b, found.Entries, 10_501)
	})
}
