package ldapbind_test

import (
	"context"
	"crypto/x509"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widelark/internal/ldapbind"
	"widelark/internal/testkit"
)

const pattern = "uid={name},ou=people,dc=quillmere,dc=example"

// A person's own password is right, and nothing else is: no empty one, no name that ends the distinguished name, nobody unknown. Where the directory cannot tell, that is an
// error.
func TestCheck(t *testing.T) {
	s := testkit.StartSlapd(t)
	roots := x509.NewCertPool()
	require.True(t, roots.AppendCertsFromPEM(s.Roots))
	for _, address := range []string{"ldap://" + s.Plain, "ldaps://" + s.Secure} {
		d, err := ldapbind.New(address, pattern, roots)
		require.NoError(t, err)
		for _, row := range []struct {
			name, password string
			right          bool
		}{
			{"kay.moran", "heather and tide 7", true},
			{"Kay.Moran", "heather and tide 7", true},
			{"kay.moran", "heather and tide 8", false},
			{"kay.moran", "", false},
			{"", "heather and tide 7", false},
			{"nobody", "heather and tide 7", false},
			{"ola, fenn", "another", true},
			{"kay.moran,ou=people,dc=quillmere,dc=example", "heather and tide 7", false},
			{"*", "heather and tide 7", false},
			{"kay.moran\x00", "heather and tide 7", false},
		} {
			right, err := d.Check(t.Context(), row.name, row.password)
			require.NoError(t, err, row)
			assert.Equal(t, row.right, right, row)
		}
	}
	untrusted, err := ldapbind.New("ldaps://"+s.Secure, pattern, nil)
	require.NoError(t, err)
	_, err = untrusted.Check(t.Context(), "kay.moran", "heather and tide 7")
	assert.ErrorContains(t, err, "cannot be reached")

	ended, end := context.WithCancel(t.Context())
	end()
	d, err := ldapbind.New("ldap://"+s.Plain, pattern, roots)
	require.NoError(t, err)
	_, err = d.Check(ended, "kay.moran", "heather and tide 7")
	require.Error(t, err)
	s.Stop()
	_, err = d.Check(t.Context(), "kay.moran", "heather and tide 7")
	assert.ErrorContains(t, err, "cannot be reached")
}

func TestNew(t *testing.T) {
	for _, row := range [][3]string{
		{"http://ldap.example", pattern, "is not the address of a directory"},
		{"ldaps://", pattern, "is not the address of a directory"},
		{"ldaps://ldap.example", "uid=kay,dc=example", "does not hold {name} once"},
		{"ldaps://ldap.example", "{name}", "is not a distinguished name"},
	} {
		_, err := ldapbind.New(row[0], row[1], nil)
		assert.ErrorContains(t, err, row[2])
	}
}
