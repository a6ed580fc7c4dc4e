package accounts

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"net/http"
	"slices"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// model is what the service should know and permit, without any of its ways to find out.
type model struct {
	ids     map[string]uuid.UUID
	within  map[string][]string        // of each group and person: the groups that it belongs to, itself among them
	roles   map[string][]modelRole     // by account
	stints  map[string]string          // by group: whose it is
	open    map[uuid.UUID]string       // requests that wait: whose they are
	entries map[string]map[string]bool // by list
}

type modelRole struct {
	role   string
	groups []string
	lists  []string
	reach  string
}

// may reports whether an account has one of some roles for somebody or some group.
func (m *model) may(who, about string, roles ...string) bool {
	return slices.ContainsFunc(m.roles[who], func(r modelRole) bool {
		if r.role == "owner" {
			return true
		}
		return slices.Contains(roles, r.role) && (len(r.groups) == 0 || slices.ContainsFunc(r.groups, func(g string) bool { return slices.Contains(m.within[about], g) }))
	})
}

// grants reports whether an account may grant somebody a site or a page.
func (m *model) grants(who, about string, page bool) bool {
	return slices.ContainsFunc(m.roles[who], func(r modelRole) bool {
		if r.role == "owner" {
			return true
		}
		return r.role == "help desk" && (page || r.reach == "") && (len(r.groups) == 0 || slices.ContainsFunc(r.groups, func(g string) bool { return slices.Contains(m.within[about], g) }))
	})
}

// edits reports whether an account may edit the entries of a list.
func (m *model) edits(who, list string) bool {
	return slices.ContainsFunc(m.roles[who], func(r modelRole) bool {
		return r.role == "owner" || r.role == "editor" && (len(r.lists) == 0 || slices.Contains(r.lists, list))
	})
}

// Whatever roles come and go while people steer, grant, answer and edit: each act is done if, and only if, a plain model of roles says so, by an account and by its tokens; a group has one stint at a time, a request
// one answer, and nothing that was refused leaves a trace.
func TestRandomActs(t *testing.T) {
	t.Parallel()
	s := ward(t)
	owner := func(args ...string) { s.Run(t, "", args...).Done(t) }
	owner("group", "new", "Part")
	owner("group", "edit", "Wards", "--group", "Part")
	owner("person", "new", "wren.hollis", "--full-name", "Wren Hollis", "--in", "Part")
	owner("publish", "--note", "a part")
	m := &model{
		ids: map[string]uuid.UUID{},
		within: map[string][]string{
			"Wards": {"Wards", "Everywhere"}, "Research": {"Research"}, "Everywhere": {"Everywhere"}, "Part": {"Part", "Wards", "Everywhere"},
			"kay.moran": {"Wards", "Everywhere"}, "petra.elver": {"Research"}, "wren.hollis": {"Part", "Wards", "Everywhere"},
		},
		roles: map[string][]modelRole{}, stints: map[string]string{}, open: map[uuid.UUID]string{}, entries: map[string]map[string]bool{"Dosage": {}, "Betting": {}},
	}
	groups, people, lists := []string{"Wards", "Research", "Everywhere", "Part"}, []string{"kay.moran", "petra.elver", "wren.hollis"}, []string{"Dosage", "Betting"}
	find := func(path, items string) {
		res := s.Request(t, "GET", "/api/v1"+path, "", map[string]string{"Authorization": "Bearer " + s.Token(t)})
		var found map[string]json.RawMessage
		require.NoError(t, json.NewDecoder(res.Body).Decode(&found))
		var all []struct {
			ID   uuid.UUID
			Name string
		}
		require.NoError(t, json.Unmarshal(found[items], &all))
		for _, one := range all {
			m.ids[one.Name] = one.ID
		}
	}
	tokens, limited := map[string]string{"edda": s.Token(t)}, map[string]string{}
	call := func(token, method, path string, body any) (int, map[string]any) {
		text, err := json.Marshal(body)
		require.NoError(t, err)
		res := s.Request(t, method, "/api/v1"+path, string(text), map[string]string{"Content-Type": "application/json", "Authorization": "Bearer " + token})
		answer := map[string]any{}
		_ = json.NewDecoder(res.Body).Decode(&answer) // some say nothing
		return res.StatusCode, answer
	}
	accounts := []string{"ivo", "mara", "sedge"}
	for _, name := range accounts {
		other := as(t, s, name, "reader")
		tokens[name] = other.Token(t)
		status, made := call(tokens[name], "POST", "/tokens", map[string]any{"name": "limited", "roles": []any{map[string]any{"role": "reader"}}})
		require.Equal(t, 201, status, made)
		limited[name] = made["secret"].(string)
		m.roles[name] = []modelRole{{role: "reader"}}
	}
	find("/groups", "items")
	find("/people", "items")
	find("/lists", "lists")
	find("/accounts", "accounts")
	m.roles["edda"] = []modelRole{{role: "owner"}}

	random := rand.New(rand.NewPCG(19, uint64(time.Now().UnixNano())))
	pick := func(of []string) string { return of[random.IntN(len(of))] }
	done := func(step, status int, may bool, what string) bool {
		ok := status >= 200 && status < 300
		if may {
			require.True(t, ok, "step %d: %s answers %d, and the model permits it", step, what, status)
		} else {
			require.Contains(t, []int{http.StatusForbidden, http.StatusNotFound}, status, "step %d: %s, and the model refuses it", step, what)
		}
		return ok
	}
	draw := func() (roles []any, held []modelRole) {
		ids := func(names []string) (refs []any) {
			for _, name := range names {
				refs = append(refs, map[string]any{"id": m.ids[name]})
			}
			return refs
		}
		for _, role := range []string{"reader", "lead", "help desk", "editor"} {
			if random.IntN(2) == 0 {
				continue
			}
			one, body := modelRole{role: role}, map[string]any{"role": role}
			if (role == "lead" || role == "help desk") && random.IntN(4) > 0 {
				one.groups = []string{pick(groups)}
				body["groups"] = ids(one.groups)
			}
			if role == "help desk" && random.IntN(2) == 0 {
				one.reach, body["reach"] = "page", "page"
			}
			if role == "editor" && random.IntN(2) == 0 {
				one.lists = []string{pick(lists)}
				body["lists"] = ids(one.lists)
			}
			roles, held = append(roles, body), append(held, one)
		}
		if len(held) == 0 {
			return []any{map[string]any{"role": "reader"}}, []modelRole{{role: "reader"}}
		}
		return roles, held
	}
	everybody := append([]string{"edda"}, accounts...)
	for step := range 160 {
		who := pick(everybody)
		token, by := tokens[who], "account"
		if random.IntN(6) == 0 && who != "edda" {
			token, by = limited[who], "limited token"
		}
		may := func(permitted bool) bool { return permitted && by == "account" }
		switch random.IntN(6) {
		case 0:
			name := pick(accounts)
			roles, held := draw()
			status, _ := call(token, "PUT", "/accounts/"+m.ids[name].String()+"/roles", map[string]any{"roles": roles})
			if done(step, status, may(who == "edda"), fmt.Sprintf("%s (%s) gives %s roles", who, by, name)) {
				m.roles[name] = held
			}
		case 1:
			group := pick(groups)
			status, made := call(token, "POST", "/stints", map[string]any{"group": m.ids[group], "kind": "nothing", "minutes": 30})
			what := fmt.Sprintf("%s (%s) begins a stint of %s", who, by, group)
			if permitted := may(m.may(who, group, "lead")); permitted && m.stints[group] != "" {
				require.Equal(t, 409, status, "step %d: %s, which has one", step, what)
			} else if done(step, status, permitted, what) {
				m.stints[group] = who
				m.ids["stint of "+group] = uuid.MustParse(made["id"].(string))
			}
		case 2:
			group := pick(groups)
			if m.stints[group] == "" {
				continue
			}
			status, _ := call(token, "DELETE", "/stints/"+m.ids["stint of "+group].String(), nil)
			if done(step, status, may(m.may(who, group, "lead")), fmt.Sprintf("%s (%s) ends the stint of %s", who, by, group)) {
				delete(m.stints, group)
			}
		case 3:
			person, page := pick(people), random.IntN(2) == 0
			entry := fmt.Sprintf("site-%d.example", step)
			if page {
				entry = fmt.Sprintf("=site-%d.example/page", step)
			}
			status, _ := call(token, "POST", "/grants", map[string]any{
				"entries": []string{entry}, "for": map[string]any{"persons": []any{map[string]any{"id": m.ids[person]}}}, "minutes": 30, "reason": "a test",
			})
			done(step, status, may(m.grants(who, person, page)), fmt.Sprintf("%s (%s) grants %s %s", who, by, person, entry))
		case 4:
			person := pick(people)
			id := asked(t, s, m.ids[person], "")
			status, _ := call(token, "POST", "/requests/"+id.String()+"/refuse", map[string]any{"answer": "no"})
			if done(step, status, may(m.may(who, person, "lead", "help desk")), fmt.Sprintf("%s (%s) answers %s", who, by, person)) {
				again, _ := call(tokens["edda"], "POST", "/requests/"+id.String()+"/refuse", map[string]any{"answer": "again"})
				require.Equal(t, 409, again, "an answer counts once")
			} else {
				m.open[id] = person
			}
		case 5:
			list, text := pick(lists), fmt.Sprintf("entry-%d.example", step)
			status, _ := call(token, "POST", "/lists/"+m.ids[list].String()+"/entries", map[string]any{"lines": []string{text}})
			if done(step, status, may(m.edits(who, list)), fmt.Sprintf("%s (%s) adds to %s", who, by, list)) {
				m.entries[list][text] = true
			}
		}
	}

	// What there is now is what the model did, and nothing besides.
	_, found := call(tokens["edda"], "GET", "/stints", nil)
	running := map[string]string{}
	for _, one := range found["stints"].([]any) {
		st := one.(map[string]any)
		group := st["group"].(map[string]any)["name"].(string)
		assert.Empty(t, running[group], "two stints of one group")
		running[group] = st["by"].(string)
	}
	assert.Equal(t, m.stints, running)
	_, found = call(tokens["edda"], "GET", "/requests?limit=500", nil)
	waiting := map[uuid.UUID]string{}
	for _, one := range found["requests"].([]any) {
		id := uuid.MustParse(one.(map[string]any)["id"].(string))
		waiting[id] = m.open[id]
	}
	assert.Equal(t, m.open, waiting)
	for _, list := range lists {
		_, page := call(tokens["edda"], "GET", "/lists/"+m.ids[list].String()+"/entries?text=entry-&limit=500", nil)
		assert.Len(t, page["entries"], len(m.entries[list]), list)
	}
}
