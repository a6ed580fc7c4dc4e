package peoplefile

import (
	"bytes"
	"encoding/base64"
	"fmt"
	"io"
	"slices"
	"strings"
	"testing"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"widelark/internal/revision"
)

const directoryFile = `version: 1

dn: uid=kay, ou=people, dc=quillmere, dc=internal
objectClass: inetOrgPerson
uid: kay
cn: Kay Moran
mail: kay@quillmere.internal

dn: uid=ola,ou=people,dc=quillmere,dc=internal
objectClass: inetOrgPerson
uid: ola
cn:: T2zDoSBGZW5u
memberOf: cn=Night ward,ou=groups,dc=quillmere,dc=internal

dn: ou=people,dc=quillmere,dc=internal
objectClass: organizationalUnit
ou: people

dn: cn=Ward nurses,ou=groups,dc=quillmere,dc=internal
objectClass: groupOfNames
cn: Ward nurses
member: uid=kay,ou=people,dc=quillmere,dc=internal
member: UID=ola,OU=people,dc=quillmere,dc=internal
member: uid=gone,ou=people,dc=quillmere,dc=internal

dn: cn=Night ward,ou=groups,dc=quillmere,dc=internal
objectClass: groupOfNames
cn: Night ward
ENTRYUUID: 0F5C1C4E-0000-4000-8000-0000000000AA
member: cn=Ward nurses,ou=groups,dc=quillmere,dc=internal
member: cn=Night ward,ou=groups,dc=quillmere,dc=internal
`

func TestReadLDIF(t *testing.T) {
	f, err := ReadLDIF(strings.NewReader(directoryFile))
	require.NoError(t, err)
	nurses, night := "cn=ward nurses,ou=groups,dc=quillmere,dc=internal", "cn=night ward,ou=groups,dc=quillmere,dc=internal"
	assert.Equal(t, File{
		People: []Person{
			{Key: "uid=kay,ou=people,dc=quillmere,dc=internal", Name: "kay", FullName: "Kay Moran", Mail: "kay@quillmere.internal", Groups: []string{nurses}},
			{Key: "uid=ola,ou=people,dc=quillmere,dc=internal", Name: "ola", FullName: "Olá Fenn", Groups: []string{night, nurses}},
		},
		Groups: []Group{{Key: nurses, Name: "Ward nurses", Within: []string{night}}, {Key: night, Name: "Night ward", Stable: "0f5c1c4e-0000-4000-8000-0000000000aa"}},
	}, f)
	for text, want := range map[string]string{
		"": "nobody is in it", "dn: uid=a\nuid:< file:///etc/hostname\n": "line 2: a value is in another file", "rubbish": "it is not LDIF",
	} {
		_, err := ReadLDIF(strings.NewReader(text))
		assert.ErrorContains(t, err, want, "%q", text)
	}
}

func TestReadCSV(t *testing.T) {
	f, err := ReadCSV(strings.NewReader("\uFEFFUser name,Full-Name,Groups,E-mail\nkay,Kay Moran,Ward nurses; Night ward,kay@quillmere.internal\n,Nobody,,\nola,\"Fenn, Ola\",ward nurses\nKAY,Again,,\n"))
	require.NoError(t, err)
	assert.Equal(t, []Person{
		{Key: "kay", Name: "kay", FullName: "Kay Moran", Mail: "kay@quillmere.internal", Groups: []string{"group:ward nurses", "group:night ward"}},
		{Key: "ola", Name: "ola", FullName: "Fenn, Ola", Groups: []string{"group:ward nurses"}},
	}, f.People)
	assert.Equal(t, []Group{{Key: "group:ward nurses", Name: "Ward nurses"}, {Key: "group:night ward", Name: "Night ward"}}, f.Groups)
	assert.Equal(t, []string{"line 3 has no name", `"KAY" is there twice; the first counts`}, f.Left)
	for text, want := range map[string]string{"a,b\n1,2\n": "line 1: no column is called name", "name\n": "nobody is in it", "name\n\"x": "line 2: "} {
		_, err := ReadCSV(strings.NewReader(text))
		assert.ErrorContains(t, err, want, "%q", text)
	}
}

// Importing a file again changes nothing; a change in the file changes only that.
func TestPlan(t *testing.T) {
	f, err := ReadLDIF(strings.NewReader(directoryFile))
	require.NoError(t, err)
	first := f.Make(nil, nil, false)
	assert.Equal(t, []any{[]string{"Ward nurses", "Night ward"}, []string{"kay", "ola"}, 4}, []any{first.NewGroups, first.New, len(first.Changes)})
	var people []Known[revision.PersonBody]
	var groups []Known[revision.GroupBody]
	for i, c := range first.Changes {
		switch body := c.Body.(type) {
		case *revision.GroupBody:
			groups = append(groups, Known[revision.GroupBody]{revision.Meta{ID: c.ID, Name: c.Name}, *body})
		case *revision.PersonBody:
			people = append(people, Known[revision.PersonBody]{revision.Meta{ID: uuid.New(), Name: c.Name, Version: int64(i)}, *body})
		}
	}
	again := f.Make(people, groups, false)
	assert.Empty(t, again.Changes)
	assert.Equal(t, 2, again.Same)

	ours := revision.Ref{ID: uuid.New()} // a group of which the file says nothing
	people[0].Body.Groups = append(people[0].Body.Groups, ours)
	people = append(people, Known[revision.PersonBody]{revision.Meta{ID: uuid.New(), Name: "left"}, revision.PersonBody{Key: "uid=left"}}, Known[revision.PersonBody]{revision.Meta{ID: uuid.New(), Name: "by hand"}, revision.PersonBody{}})
	f.People[0].Mail, f.People[0].Groups = "", nil
	changed := f.Make(people, groups, true)
	assert.Equal(t, []string{"kay: mail, 1 groups left"}, changed.Changed)
	assert.Equal(t, []string{"left"}, changed.Missing, "who was put in by hand stays")
	require.Len(t, changed.Changes, 2)
	assert.Equal(t, people[0].ID, changed.Changes[0].ID)
	assert.Equal(t, []revision.Ref{ours}, changed.Changes[0].Body.(*revision.PersonBody).Groups)
	assert.True(t, changed.Changes[1].Remove)
}

// People with odd names in any groups are written and read back in both formats, and importing them again changes nothing.
func TestRoundTrips(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		name := rapid.StringMatching(`[a-zäöß][a-z .'-]{0,12}[a-z0-9]`)
		groups := rapid.SliceOfNDistinct(rapid.StringMatching(`[A-Za-zÅ][a-zå &-]{1,10}[a-z]`), 1, 4, strings.ToLower).Draw(t, "groups")
		people := rapid.SliceOfNDistinct(name, 1, 6, strings.ToLower).Draw(t, "people")
		in := map[string][]string{}
		for _, p := range people {
			in[p] = rapid.SliceOfNDistinct(rapid.SampledFrom(groups), 0, 3, rapid.ID[string]).Draw(t, "in")
		}
		var ldif, table strings.Builder
		ldif.WriteString("version: 1\n")
		table.WriteString("name,full name,groups\n")
		encoded := func(attribute, value string) string {
			return attribute + ":: " + base64.StdEncoding.EncodeToString([]byte(value)) + "\n"
		}
		for i, p := range people {
			fmt.Fprintf(&ldif, "\ndn: uid=%d,dc=x\nobjectClass: person\n%s%s", i, encoded("uid", p), encoded("cn", "Full "+p))
			fmt.Fprintf(&table, "%q,%q,%q\n", p, "Full "+p, strings.Join(in[p], ";"))
		}
		for g, group := range groups {
			fmt.Fprintf(&ldif, "\ndn: cn=%d,ou=groups,dc=x\nobjectClass: groupOfNames\n%s", g, encoded("cn", group))
			for i, p := range people {
				if slices.Contains(in[p], group) {
					fmt.Fprintf(&ldif, "member: UID=%d, dc=x\n", i)
				}
			}
		}
		for format, read := range map[string]func() (File, error){
			"ldif": func() (File, error) { return ReadLDIF(strings.NewReader(ldif.String())) }, "csv": func() (File, error) { return ReadCSV(strings.NewReader(table.String())) },
		} {
			f, err := read()
			require.NoError(t, err, format)
			require.Len(t, f.People, len(people), format)
			names := map[string]string{}
			for _, g := range f.Groups {
				names[g.Key] = g.Name
			}
			for i, p := range f.People {
				require.Equal(t, people[i], p.Name, format)
				require.Equal(t, "Full "+people[i], p.FullName, format)
				var belongs []string
				for _, key := range p.Groups {
					belongs = append(belongs, names[key])
				}
				require.ElementsMatch(t, in[people[i]], belongs, format)
			}
			first := f.Make(nil, nil, false)
			var known []Known[revision.PersonBody]
			var there []Known[revision.GroupBody]
			for _, c := range first.Changes {
				switch body := c.Body.(type) {
				case *revision.GroupBody:
					there = append(there, Known[revision.GroupBody]{revision.Meta{ID: c.ID, Name: c.Name}, *body})
				case *revision.PersonBody:
					known = append(known, Known[revision.PersonBody]{revision.Meta{ID: uuid.New(), Name: c.Name}, *body})
				}
			}
			again := f.Make(known, there, true)
			require.Empty(t, again.Changes, format)
			require.Equal(t, len(people), again.Same, format)
		}
	})
}

// Reading a file of any bytes ends, with people or with an error.
func FuzzRead(f *testing.F) {
	f.Add([]byte(directoryFile))                      // a directory's file
	f.Add([]byte("name,groups\nkay,\"a;b\"\n"))       // a table
	f.Add([]byte("dn: uid=a\nuid:< file:///etc/x"))   // a value elsewhere
	f.Add([]byte("dn: uid=a\nuid:: !!!\n\n- x\n:::")) // no base64
	f.Fuzz(func(t *testing.T, data []byte) {
		for _, read := range []func(io.Reader) (File, error){ReadLDIF, ReadCSV} {
			file, err := read(bytes.NewReader(data))
			if err == nil && len(file.People) == 0 {
				t.Fatal("nobody, and no reason")
			}
			for _, p := range file.People {
				if p.Name == "" || p.Key == "" {
					t.Fatalf("somebody without a name: %+v", p)
				}
			}
		}
	})
}
