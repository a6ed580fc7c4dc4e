package revision

import (
	"fmt"
	"slices"
	"strings"

	"golang.org/x/net/http/httpguts"

	"widelark/core/match"
	"widelark/core/pattern"
	"widelark/core/policy"
	"widelark/core/weburl"
)

// EngineBody is a search engine: where it is, how it is asked, and what makes its answers safe.
type EngineBody struct {
	Description string          `json:"description,omitempty" maxLength:"2000"`
	Hosts       []pattern.Entry `json:"hosts" minItems:"1" maxItems:"1000" doc:"Entries in the notation"`
	Words       []string        `json:"words,omitempty" maxItems:"20" doc:"The parameters that hold what is searched for; left out: those that usually do, as q"`
	Safe        *SafeBody       `json:"safe,omitempty" doc:"What makes its answers safe; left out: nothing does, and safe search is not held there"`
}

// SafeBody is what makes a search engine's answers safe.
type SafeBody struct {
	By    policy.SafeBy `json:"by" enum:"parameter,header,host" doc:"A parameter or a header field that each request is sent with, or another host that answers in its place"`
	Name  string        `json:"name,omitempty" maxLength:"80" doc:"Of the parameter or the header field"`
	Value string        `json:"value" maxLength:"255" doc:"Of the parameter or the header field; the other host"`
}

// Check implements [Body].
func (b *EngineBody) Check() error {
	if err := checkHosts(b.Hosts, "an engine"); err != nil {
		return err
	}
	for i, e := range b.Hosts {
		if e != (pattern.Entry{Pattern: e.Pattern, Note: e.Note}) {
			return &FieldError{fmt.Sprintf("hosts[%d]", i), fmt.Sprintf("%q has an end or is switched off: an engine is always where it is", e)}
		}
	}
	var words []string
	for i, word := range b.Words {
		if word = strings.TrimSpace(word); word == "" || len(word) > 80 || strings.ContainsAny(word, "&=# \t\r\n") {
			return &FieldError{fmt.Sprintf("words[%d]", i), fmt.Sprintf("%q is not the name of a parameter, as q", word)}
		}
		if !slices.Contains(words, word) {
			words = append(words, word)
		}
	}
	b.Words = words
	if b.Safe != nil {
		if err := b.Safe.check(); err != nil {
			return err
		}
	}
	return checkDescription(&b.Description)
}

// framing are the header fields that say where a message goes, who sends it and where it ends: to set one would change more than an answer.
var framing = []string{
	"host", "connection", "content-length", "transfer-encoding", "te", "trailer", "upgrade", "keep-alive", "expect", "via", "cookie", "authorization", "proxy-authorization", "proxy-connection",
}

func (s *SafeBody) check() error {
	s.Name, s.Value = strings.TrimSpace(s.Name), strings.TrimSpace(s.Value)
	switch s.By {
	case policy.ByParameter:
		if s.Name == "" || strings.ContainsAny(s.Name, "\r\n\x00") {
			return &FieldError{"safe.name", "which parameter? Its name is wanted, as calm"}
		}
	case policy.ByHeader:
		if !httpguts.ValidHeaderFieldName(s.Name) {
			return &FieldError{"safe.name", fmt.Sprintf("%q is not the name of a header field", s.Name)}
		}
		if slices.Contains(framing, strings.ToLower(s.Name)) {
			return &FieldError{"safe.name", fmt.Sprintf("%s is not for engines: gates set it themselves, or pass it on", s.Name)}
		}
		if !httpguts.ValidHeaderFieldValue(s.Value) || s.Value == "" {
			return &FieldError{"safe.value", fmt.Sprintf("%q cannot be the value of a header field", s.Value)}
		}
	case policy.ByHost:
		u, err := weburl.Parse(s.Value)
		if err != nil || u.Path() != "/" || u.Query() != "" || u.Addr().IsValid() || strings.ContainsAny(s.Value, "/:?@") {
			return &FieldError{"safe.value", fmt.Sprintf("%q is not a host, as calm.heron.example", s.Value)}
		}
		s.Name, s.Value = "", u.Host()
	default:
		return &FieldError{"safe.by", fmt.Sprintf("%q is none of parameter, header, host", s.By)}
	}
	return nil
}

// checkHosts refuses entries that say more than a host. what says what is made of them.
func checkHosts(hosts []pattern.Entry, what string) error {
	for i, e := range hosts {
		if err := e.Err(); err != nil {
			return &FieldError{fmt.Sprintf("hosts[%d]", i), err.Error()}
		}
		if match.NeedsFull(e.Pattern) || !e.Pattern.IsValid() || e.CarveOut {
			return &FieldError{fmt.Sprintf("hosts[%d]", i), fmt.Sprintf("%q is about more than hosts: %s is a set of hosts", e, what)}
		}
	}
	if len(hosts) == 0 {
		return &FieldError{"hosts", what + " without hosts is never met: name at least one"}
	}
	return nil
}

// Refs implements [Body].
func (*EngineBody) Refs(func(string, Kind, *Ref)) {}

// Engine returns the core's form of an engine. What cannot be read is recorded in asides.
func (b *EngineBody) Engine(meta Meta, asides *Asides) policy.Engine {
	e := policy.Engine{ID: meta.ID.String(), Name: meta.Name, Entries: asides.readable(KindEngine, meta, b.Hosts), Words: b.Words}
	if b.Safe != nil {
		e.Safe = policy.Safe{By: b.Safe.By, Name: b.Safe.Name, Value: b.Safe.Value}
	}
	return e
}

// AsksEngines reports whether what a policy does depends on the table of engines: a rule asks for safe search, or looks at what is searched for.
func (b *PolicyBody) AsksEngines() bool {
	return slices.ContainsFunc(b.Rules, func(r RuleBody) bool { return r.With != nil && r.With.SafeSearch || r.If != nil && r.If.searches() })
}

func (c *Condition) searches() bool {
	for _, parts := range [][]Condition{c.All, c.Any, c.None} {
		for i := range parts {
			if parts[i].searches() {
				return true
			}
		}
	}
	return len(c.Search) > 0
}
