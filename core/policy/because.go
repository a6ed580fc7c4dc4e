package policy

import (
	"fmt"
	"strings"

	"widelark/core/classify"
	"widelark/core/weburl"
)

// because says in one sentence what decided.
func (s *Snapshot) because(w *Work, e *Explanation) string {
	if w.notTLS && e.Decision.Verdict == Block && (e.Decider < 0 || e.Steps[e.Decider].Then.Passes()) {
		return "What the client says through the tunnel is not TLS, and no rule that names the trait not-tls allows it: block."
	}
	if e.Decider < 0 {
		return fmt.Sprintf("No policy is for this request, and there is no fallback: it says %s.", e.Decision.Verdict)
	}
	step := &e.Steps[e.Decider]
	switch step.Rung {
	case AtUnlocked:
		return "It is unlocked with a code, and that still runs: allow."
	case AtException:
		g := &s.grants[e.Decision.Granted]
		sentence := fmt.Sprintf("The %s %q says %s%s, because it has the entry %s.", g.word(), g.Name, step.Then, s.fits(w, g), step.Evidence[0].Entry.Pattern)
		if g.Reason != "" {
			sentence += " Reason given: " + strings.TrimSuffix(g.Reason, ".") + "."
		}
		return sentence
	case AtStint:
		st := &s.stints[e.Decision.Stint]
		if st.Kind == Paused {
			return fmt.Sprintf("%s has paused the web of %s until %s: block.", st.By, s.stintFor(st), st.Until.In(s.config.Zone).Format("15:04"))
		}
		return fmt.Sprintf("%s has put %s on %s until %s: it says %s.", st.By, s.stintFor(st), st.Kind.Says(),
			st.Until.In(s.config.Zone).Format("15:04"), step.Then)
	}
	where := fmt.Sprintf("the policy %q", step.Policy)
	switch step.Rung {
	case AtBaseline:
		where = "the baseline"
	case AtFallback:
		where = "the fallback"
	}
	var sentence string
	switch {
	case step.Place < 0 && !hasRules(e, step):
		sentence = fmt.Sprintf("%s has no rules; otherwise it says %s.", capital(where), step.Then)
	case step.Place < 0:
		sentence = fmt.Sprintf("No rule of %s matches; otherwise it says %s.", where, step.Then)
	default:
		sentence = fmt.Sprintf("The rule %q of %s says %s", step.Rule, where, step.Then)
		if step.When != "" {
			sentence += " " + step.When
		}
		if reasons := Reasons(step.Evidence); reasons != "" {
			sentence += ", because " + reasons
		}
		sentence += "."
	}
	if e.Decision.Rung == AtPolicy && len(e.Policies) > 1 {
		sentence = strings.TrimSuffix(sentence+" "+s.combinedHow(e), " ")
	}
	if !step.Passed.IsZero() {
		sentence += fmt.Sprintf(" That has been acknowledged, so it is allowed until %s.", step.Passed.In(s.config.Zone).Format("15:04"))
	}
	if !step.UsedUp.IsZero() {
		of := s.ruleOf(e.Decision).With.Quota
		sentence = fmt.Sprintf("The rule %q of %s allows %s a day, used up until midnight: block.", step.Rule, where, span(of))
	}
	if step.Unheld != (Provisos{}) {
		sentence += fmt.Sprintf(" The %s gate cannot hold %s %s, and %s blocks what cannot be held: block.", w.gate.Title(), step.Unheld, whereSeen(w.sight), where)
	}
	if step.Then == Hold && e.Decision.Verdict == Block && w.gate == DNS {
		sentence += " The DNS gate cannot ask, so it blocks."
	}
	return sentence
}

// whereSeen says what a gate sees, as the end of a clause.
func whereSeen(sight weburl.Sight) string {
	switch sight {
	case weburl.Name:
		return "by the name alone"
	case weburl.Tunnel:
		return "in a connection that is not opened"
	}
	return "here"
}

// combinedHow says why this policy counts, of several.
func (s *Snapshot) combinedHow(e *Explanation) string {
	others := 0
	for _, step := range e.Steps {
		if step.Outcome == Outweighed && step.Rung == AtPolicy {
			others++
		}
	}
	switch {
	case s.config.Combining == Position:
		return fmt.Sprintf("It stands first of the %d policies that the request has.", len(e.Policies))
	case others > 0:
		return fmt.Sprintf("Of the %d policies that the request has, the %s counts.", len(e.Policies), s.config.Combining)
	}
	return ""
}

func hasRules(e *Explanation, of *Step) bool {
	for i := range e.Steps {
		if e.Steps[i].Rung == of.Rung && e.Steps[i].PolicyID == of.PolicyID && e.Steps[i].Place >= 0 {
			return true
		}
	}
	return false
}

// fits says why an exception is for this request.
func (s *Snapshot) fits(w *Work, g *grant) string {
	d := s.config.Directory
	switch w.level(g) {
	case forPerson:
		return " for " + d.People[w.person].Name
	case forPlace:
		if w.network >= 0 && g.networks.Has(w.network) {
			return fmt.Sprintf(" for the network %q", d.Networks[w.network].Name)
		}
		return " for the address " + w.addr.String()
	case forGroup:
		for n := g.groups.Next(0); n >= 0; n = g.groups.Next(n + 1) {
			if w.groups.Has(n) {
				return fmt.Sprintf(" for the group %q", d.Groups[n].Name)
			}
		}
	}
	return " for everybody"
}

// Reasons says in one clause what made a condition hold.
func Reasons(evidence []Evidence) string {
	var parts []string
	for _, e := range evidence {
		switch e.Op {
		case InList:
			part := "it"
			if e.List != nil {
				part = fmt.Sprintf("the list %q", e.List.Name)
			}
			if e.Entry != nil {
				part += " has the entry " + e.Entry.Pattern.String()
			}
			parts = append(parts, part)
		case Is:
			parts = append(parts, "it is "+e.Category.Name+giver(e.Given))
		case App:
			parts = append(parts, "it belongs to "+e.Text)
		case HasTrait:
			parts = append(parts, traitReason[Trait(e.Text)])
		case Method:
			parts = append(parts, "the method is "+e.Text)
		case File:
			if e.Answered {
				parts = append(parts, "what comes is of the kind "+e.Text)
				continue
			}
			parts = append(parts, "a file is asked for: "+e.Text)
		case Search:
			parts = append(parts, fmt.Sprintf("%q is searched for", e.Text))
		case Points:
			parts = append(parts, "it comes to "+e.Text)
		}
	}
	return joined(parts, "and")
}

var traitReason = map[Trait]string{
	RawAddress: "the host is a bare address", PlainHTTP: "it is plain HTTP", Unrated: "nothing says what it is",
	OddPort: "the port is unusual", UserInfo: "the URL holds a user name", Punycode: "the host is in another script",
	TwoNames: "the client names two hosts on one connection", NotTLS: "what comes through the tunnel is not TLS",
}

// giver says what gave a category, as the end of a clause.
func giver(g *classify.Given) string {
	switch {
	case g == nil:
		return " by a scorecard"
	case g.Source == classify.ByCorrection:
		return fmt.Sprintf(" by our correction of %s", g.Entry.Pattern)
	case g.Source == classify.ByOwn:
		return fmt.Sprintf(": the list %q has the entry %s", g.List.Name, g.Entry.Pattern)
	}
	return fmt.Sprintf(": the pack %q has the entry %s", g.PackName, g.Entry.Pattern)
}

// joined joins parts as a sentence does: a, b and c.
func joined(parts []string, last string) string {
	switch n := len(parts); n {
	case 0:
		return ""
	case 1:
		return parts[0]
	default:
		return strings.Join(parts[:n-1], ", ") + " " + last + " " + parts[n-1]
	}
}

func capital(text string) string {
	if text == "" {
		return text
	}
	return strings.ToUpper(text[:1]) + text[1:]
}

// stintFor says whom a stint is for.
func (s *Snapshot) stintFor(st *stint) string {
	group := fmt.Sprintf("the group %q", s.config.Directory.Groups[st.group].Name)
	if st.persons != nil {
		return "some of " + group
	}
	return group
}
