package gates

import (
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/go-ldap/ldap/v3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widelark/internal/testkit"
	"widelark/test/e2e/house"
)

// staff is people and groups as an LDAP server has them.
const staff = `dn: dc=quillmere,dc=example
objectClass: dcObject
objectClass: organization
o: Quillmere General
dc: quillmere

dn: uid=ola.fenn,dc=quillmere,dc=example
objectClass: inetOrgPerson
uid: ola.fenn
cn: Ola Fenn
sn: Fenn

dn: uid=hal.birch,dc=quillmere,dc=example
objectClass: inetOrgPerson
uid: hal.birch
cn: Hal Birch
sn: Birch

dn: uid=noor.hale,dc=quillmere,dc=example
objectClass: inetOrgPerson
uid: noor.hale
cn: Noor Hale
sn: Hale

dn: cn=Night,dc=quillmere,dc=example
objectClass: groupOfNames
cn: Night
member: uid=ola.fenn,dc=quillmere,dc=example

dn: cn=Clinical,dc=quillmere,dc=example
objectClass: groupOfNames
cn: Clinical
member: cn=Night,dc=quillmere,dc=example
member: uid=hal.birch,dc=quillmere,dc=example
`

// manager returns a connection that may edit what an LDAP server has.
func manager(t *testing.T, s *testkit.Slapd) *ldap.Conn {
	t.Helper()
	conn, err := ldap.DialURL("ldap://" + s.Plain)
	require.NoError(t, err)
	t.Cleanup(func() { _ = conn.Close() })
	require.NoError(t, conn.Bind(testkit.SlapdManager, testkit.SlapdPassword))
	return conn
}

// What an LDAP directory says holds at every gate, here and elsewhere, without a publish: who is in one of its groups, which a group of the draft holds, and who left it. What would
// take a group from the draft waits; what cannot be read changes nothing.
func TestLDAPDirectory(t *testing.T) {
	t.Parallel()
	s, gate := gated(t, false)
	elsewhere := house.Elsewhere(t, gate, "branch")
	run := func(args ...string) string { return gate.Run(t, "", append(args, "--server", gate.URL)...).Done(t) }
	slapd := testkit.StartSlapdOf(t, staff)
	assert.Contains(t, s.Run(t, testkit.SlapdPassword+"\n", "directory", "add", "Staff", "ldap://"+slapd.Plain, "--base", "dc=quillmere,dc=example", "--bind", testkit.SlapdManager, "--password-stdin").Err,
		"has no secret to seal it with")
	added := gate.Run(t, testkit.SlapdPassword+"\n", "directory", "add", "Staff", "ldap://"+slapd.Plain, "--base", "dc=quillmere,dc=example", "--bind", testkit.SlapdManager, "--password-stdin", "--paused", "--server", gate.URL).Done(t)
	assert.Contains(t, added, `Added the directory "Staff"`)
	seen := run("directory", "sync", "Staff", "--preview")
	assert.Contains(t, seen, "3 people, 2 groups: 5 would come, 0 change, 0 go.")
	assert.NotContains(t, run("person", "ls"), "ola.fenn", "a preview keeps nothing")
	assert.Contains(t, run("directory", "sync", "Staff"), "changed: 3 people and 2 groups: 5 came, 0 changed, 0 went.")
	assert.Contains(t, run("directory", "sync", "Staff"), "unchanged: Nothing has changed.")
	assert.Contains(t, run("person", "ls"), "ola.fenn")
	assert.Contains(t, gate.Run(t, "", "person", "edit", "ola.fenn", "--full-name", "Ola", "--server", gate.URL).Err, `from the directory "Staff", and is edited there`)
	assert.NotContains(t, run("directory", "show", "Staff", "-o", "json"), testkit.SlapdPassword)

	run("group", "edit", "Nurses", "--group", "Clinical")
	run("publish", "--note", "the directory's people")
	run("presence", "set", "ola.fenn", "127.0.98.7", "--until", "1h")
	sees := func(at *testkit.Service) string {
		return curl(t, at.Proxy, "--interface", "127.0.98.7", "http://oddsfield.example/today").sees()
	}
	everywhere := func(want, why string) time.Duration {
		t.Helper()
		begin := time.Now()
		require.Eventually(t, func() bool { return sees(gate) == want && sees(elsewhere) == want }, testkit.Patience, testkit.Look, why)
		return time.Since(begin)
	}
	everywhere("the block page", "a member of a member of a group of the draft")
	live := run("history", "--limit", "1", "-o", "csv")

	conn := manager(t, slapd)
	require.NoError(t, conn.Modify(&ldap.ModifyRequest{DN: "cn=Night,dc=quillmere,dc=example", Changes: []ldap.Change{{Operation: ldap.ReplaceAttribute, Modification: ldap.PartialAttribute{Type: "member", Vals: []string{"uid=noor.hale,dc=quillmere,dc=example"}}}}}))
	assert.Contains(t, run("directory", "sync", "Staff"), "0 came, 2 changed, 0 went.")
	t.Logf("in force at both gates %s after the reading", everywhere("the page", "who has left the group").Round(time.Millisecond))
	assert.Equal(t, live, run("history", "--limit", "1", "-o", "csv"), "nothing was published")
	assert.Contains(t, run("directory", "changes", "Staff", "--from", "1", "--to", "2"), "out of Night")
	assert.Contains(t, run("directory", "undo", "Staff"), `State 1 of "Staff" is in force again.`)
	everywhere("the block page", "the state of before")
	assert.Contains(t, run("directory", "undo", "Staff"), "State 2")

	// She marries: the name is another, the person the same.
	require.NoError(t, conn.ModifyDN(ldap.NewModifyDNRequest("uid=noor.hale,dc=quillmere,dc=example", "uid=noor.reed", true, "")))
	require.NoError(t, conn.Modify(&ldap.ModifyRequest{DN: "cn=Night,dc=quillmere,dc=example", Changes: []ldap.Change{{Operation: ldap.ReplaceAttribute, Modification: ldap.PartialAttribute{Type: "member", Vals: []string{"uid=noor.reed,dc=quillmere,dc=example"}}}}}))
	run("presence", "set", "noor.hale", "127.0.98.7", "--until", "1h")
	everywhere("the block page", "by the old name")
	assert.Contains(t, run("directory", "sync", "Staff"), "0 came, 1 changed, 0 went.")
	assert.Contains(t, run("directory", "changes", "Staff", "--from", "2", "--to", "3"), "was noor.hale")
	assert.Contains(t, run("presence", "ls", "-o", "csv"), "Noor Hale,127.0.98.7,", "she is still there")
	assert.Equal(t, []string{"the block page", "the block page"}, []string{sees(gate), sees(elsewhere)})

	// Clinical is named by the draft: emptying it waits.
	require.NoError(t, conn.Del(ldap.NewDelRequest("cn=Clinical,dc=quillmere,dc=example", nil)))
	waits := run("directory", "sync", "Staff")
	assert.Contains(t, waits, `It waits until somebody accepts it: the group "Clinical" would go, and the group "Nurses" names it.`)
	assert.Contains(t, run("directory", "show", "Staff"), `because the group "Clinical" would go, and the group "Nurses" names it`)
	assert.Equal(t, "the block page", sees(gate), "the state in force stays")
	assert.Contains(t, run("directory", "accept", "Staff"), "State 4")
	everywhere("the page", "nobody is in the group any more")
	assert.Contains(t, run("review"), `The group "Nurses" holds a group that is gone.`)
	assert.Contains(t, run("who", "Noor Hale"), "Night")

	// Nothing that cannot be read is taken for people who left.
	slapd.Stop()
	failed := gate.Run(t, "", "directory", "sync", "Staff", "--server", gate.URL)
	assert.Equal(t, 1, failed.Code)
	assert.Contains(t, failed.Out, "failed: The server cannot be reached")
	small := testkit.StartSlapdOf(t, staff, "sizelimit 2")
	run("directory", "add", "Small", "ldap://"+small.Plain, "--base", "dc=quillmere,dc=example", "--paused")
	limited := gate.Run(t, "", "directory", "sync", "Small", "--server", gate.URL)
	assert.Contains(t, limited.Out, "failed: The server gives no more than some of its entries (size limit exceeded)")
	assert.Contains(t, run("person", "ls"), "noor.reed")
	audited := run("audit", "--limit", "60")
	for _, what := range []string{"directory added", "directory put in force", "directory held", "directory undone"} {
		assert.Contains(t, audited, what)
	}
}

// A program sends people and groups by SCIM (RFC 7644) with the token of its directory, which opens nothing else; what it sends holds soon, and who is not active is nobody.
func TestSCIM(t *testing.T) {
	t.Parallel()
	s := house.Server.Serve(t)
	run := func(args ...string) string { return s.Run(t, "", args...).Done(t) }
	run("directory", "add", "Agency", "--scim", "--max-shrink", "50")
	token := strings.TrimSpace(run("directory", "token", "Agency"))
	call := func(token, method, path string, body any) (int, map[string]any) {
		t.Helper()
		text, err := json.Marshal(body)
		require.NoError(t, err)
		r, err := http.NewRequestWithContext(t.Context(), method, s.URL+path, strings.NewReader(string(text)))
		require.NoError(t, err)
		r.Header.Set("Authorization", "Bearer "+token)
		r.Header.Set("Content-Type", "application/scim+json")
		answer, err := http.DefaultClient.Do(r)
		require.NoError(t, err)
		defer answer.Body.Close()
		said, err := io.ReadAll(answer.Body)
		require.NoError(t, err)
		var told map[string]any
		_ = json.Unmarshal(said, &told)
		return answer.StatusCode, told
	}
	scim := func(method, path string, body any) (int, map[string]any) {
		t.Helper()
		return call(token, method, "/scim/v2"+path, body)
	}
	for _, path := range []string{"/ServiceProviderConfig", "/Schemas", "/ResourceTypes"} {
		status, _ := scim("GET", path, nil)
		assert.Equal(t, 200, status, path)
	}
	status, _ := call("wld_nobody", "GET", "/scim/v2/Users", nil)
	assert.Equal(t, 401, status)
	status, _ = call(token, "GET", "/api/v1/lists", nil)
	assert.Equal(t, 401, status, "the token opens nothing else")
	status, _ = call(s.Token(t), "GET", "/scim/v2/Users", nil)
	assert.Equal(t, 401, status, "nor do others open this")

	user := func(name string) map[string]any {
		return map[string]any{
			"schemas": []string{"urn:ietf:params:scim:schemas:core:2.0:User"}, "userName": name, "externalId": "x-" + name, "active": true,
			"name": map[string]any{"givenName": strings.ToUpper(name[:1]) + name[1:], "familyName": "Reed"}, "emails": []any{map[string]any{"value": name + "@agency.example", "primary": true}},
		}
	}
	ids := map[string]string{}
	for _, name := range []string{"una", "tam", "corin"} {
		status, made := scim("POST", "/Users", user(name))
		require.Equal(t, 201, status, "%v", made)
		ids[name] = made["id"].(string)
		assert.Contains(t, made["meta"].(map[string]any)["location"], "/Users/"+ids[name])
	}
	status, told := scim("POST", "/Users", user("UNA"))
	assert.Equal(t, []any{409, "uniqueness"}, []any{status, told["scimType"]})
	status, told = scim("POST", "/Users", map[string]any{"schemas": []string{"urn:ietf:params:scim:schemas:core:2.0:User"}})
	assert.Equal(t, 400, status, "%v", told)
	group := func(name string, members ...string) string {
		all := []any{}
		for _, id := range members {
			all = append(all, map[string]any{"value": id})
		}
		status, made := scim("POST", "/Groups", map[string]any{"schemas": []string{"urn:ietf:params:scim:schemas:core:2.0:Group"}, "displayName": name, "members": all})
		require.Equal(t, 201, status, "%v", made)
		return made["id"].(string)
	}
	porters := group("Porters", ids["una"], ids["tam"])
	group("Everybody", porters, ids["corin"])
	people := func(want ...string) {
		t.Helper()
		var got string
		require.Eventually(t, func() bool {
			got = run("person", "ls", "-o", "csv")
			lines := strings.Split(strings.TrimSpace(got), "\n")[1:]
			if len(lines) != len(want) {
				return false
			}
			for i, line := range lines {
				if !strings.HasPrefix(line, want[i]) {
					return false
				}
			}
			return true
		}, testkit.Patience, testkit.Look, "%v", want)
	}
	people("corin,Corin Reed,Everybody,corin@agency.example", "tam,Tam Reed,Porters,", "una,Una Reed,Porters,")
	assert.Contains(t, run("who", "una"), "Everybody")

	status, found := scim("GET", `/Users?filter=`+strings.ReplaceAll(`userName eq "tam"`, " ", "%20"), nil)
	assert.Equal(t, []any{200, 1.0}, []any{status, found["totalResults"]})
	status, found = scim("GET", "/Users?startIndex=2&count=1", nil)
	assert.Equal(t, []any{200, 3.0, 1}, []any{status, found["totalResults"], len(found["Resources"].([]any))})
	patch := func(path string, operations ...map[string]any) {
		t.Helper()
		status, told := scim("PATCH", path, map[string]any{"schemas": []string{"urn:ietf:params:scim:api:messages:2.0:PatchOp"}, "Operations": operations})
		require.Contains(t, []int{200, 204}, status, "%v", told)
	}
	patch("/Groups/"+porters, map[string]any{"op": "remove", "path": fmt.Sprintf(`members[value eq "%s"]`, ids["una"])}, map[string]any{"op": "add", "path": "members", "value": []any{map[string]any{"value": ids["corin"]}}})
	patch("/Users/"+ids["tam"], map[string]any{"op": "replace", "value": map[string]any{"userName": "tam.marsh", "name": map[string]any{"familyName": "Marsh"}}})
	people("corin,Corin Reed,\"", "tam.marsh,Tam Marsh,Porters,", "una,Una Reed,,")
	assert.Contains(t, run("who", "corin"), "Porters")
	patch("/Users/"+ids["una"], map[string]any{"op": "replace", "path": "active", "value": false})
	people("corin,", "tam.marsh,")
	patch("/Users/"+ids["una"], map[string]any{"op": "replace", "path": "active", "value": true})
	people("corin,", "tam.marsh,", "una,")

	status, _ = scim("DELETE", "/Users/"+ids["una"], nil)
	assert.Equal(t, 204, status)
	status, _ = scim("GET", "/Users/"+ids["una"], nil)
	assert.Equal(t, 404, status)
	people("corin,", "tam.marsh,")
	run("directory", "set", "Agency", "--max-shrink", "10")
	for _, name := range []string{"corin", "tam"} {
		status, _ = scim("DELETE", "/Users/"+ids[name], nil)
		assert.Equal(t, 204, status)
	}
	require.Eventually(t, func() bool {
		return strings.Contains(run("directory", "show", "Agency"), "because 2 of 2 people would go")
	}, testkit.Patience, testkit.Look)
	people("corin,", "tam.marsh,")
	run("directory", "token", "Agency", "--end")
	status, _ = scim("GET", "/Users", nil)
	assert.Equal(t, 401, status)
}

// Files that somebody else keeps: fetched on a timetable, or handed over by whoever keeps them.
func TestDirectoryFiles(t *testing.T) {
	t.Parallel()
	s := house.Server.Serve(t)
	run := func(args ...string) string { return s.Run(t, "", args...).Done(t) }
	run("directory", "add", "Students")
	table := "name,full name,groups,key\nwren,Wren Hollis,First year; Night,s-1\ntarn,Tarn Grebe,First year,s-2\n"
	assert.Contains(t, run("directory", "import", "Students", house.File(t, "students.csv", []byte(table))), "2 people and 2 groups: 4 came")
	married := strings.Replace(table, "tarn,Tarn Grebe", "tarn.ling,Tarn Ling", 1)
	assert.Contains(t, run("directory", "import", "Students", house.File(t, "students.csv", []byte(married))), "0 came, 1 changed, 0 went.")
	ran := s.Run(t, "", "directory", "import", "Students", house.File(t, "one.csv", []byte(strings.SplitAfter(married, "s-1\n")[0])))
	assert.Contains(t, ran.Out, "1 of 2 people would go, more than 10 per cent")
	run("alert", "new", "Directories", "--what", "directories", "--days", "2")
	require.Eventually(t, func() bool {
		return strings.Contains(run("alert", "found"), "A change of the directory Students waits for somebody to accept it: 1 of 2 people would go")
	}, testkit.Patience, testkit.Look)
	assert.Contains(t, run("directory", "refuse", "Students"), "The state in force stays")
	for text, want := range map[string]string{"": "nobody is in it", "name\n\"x": "The file cannot be read: line 2", "dn: uid=a\nuid:< file:///etc/hostname\n": "a value is in another file"} {
		assert.Contains(t, s.Run(t, "", "directory", "import", "Students", house.File(t, "bad", []byte(text))).Err, want)
	}
	assert.Contains(t, run("person", "ls"), "tarn.ling")
	for want, args := range map[string][]string{
		"is not an address that begins with":  {"Other", "ftp://files.example/people"},
		"the distinguished name is wanted":    {"Other", "ldap://127.0.0.1"},
		"a password in an address":            {"Other", "https://a:b@files.example/people.csv"},
		"is not a distinguished name":         {"Other", "ldap://127.0.0.1", "--base", "people"},
		"the name is taken":                   {"students"},
		"this is for directories of the kind": {"Other", "--base", "dc=example"},
	} {
		assert.Contains(t, s.Run(t, "", append([]string{"directory", "add"}, args...)...).Err, want, "%v", args)
	}
	// Files of the configuration name the directory's groups and have none of its people; what is imported by hand passes them over.
	run("group", "new", "Ward", "--group", "First year")
	dir := t.TempDir()
	run("export", dir)
	kept, err := os.ReadFile(filepath.Join(dir, "groups.yaml"))
	require.NoError(t, err)
	assert.NotContains(t, string(kept), "name: First year")
	assert.Contains(t, string(kept), "[First year]")
	assert.NoFileExists(t, filepath.Join(dir, "people.yaml"))
	assert.Contains(t, run("plan", dir), "There is no difference")
	by := run("person", "import", house.File(t, "by-hand.csv", []byte("name,groups\nwren,First year\nuna,First year;Choir\n")))
	assert.Contains(t, by, "wren is from a directory")
	assert.Contains(t, by, "the group First year is from a directory")
	assert.Contains(t, run("person", "ls", "-o", "csv"), "una,,Choir,,")
	// A directory elsewhere in the house is not read unless its administrator says so.
	run("directory", "add", "Inside", "http://10.1.2.3/people.csv", "--paused")
	assert.Contains(t, s.Run(t, "", "directory", "sync", "Inside").Out, "does not fetch from")
	assert.Contains(t, run("directory", "remove", "Students", "--anyway"), "Removed")
	assert.NotContains(t, run("person", "ls"), "tarn.ling")
	assert.Regexp(t, `(?m)^Inside\s`, run("directory", "ls"))
}
