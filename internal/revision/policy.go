package revision

import (
	"fmt"
	"slices"
	"time"

	"github.com/google/uuid"

	"widelark/core/policy"
)

// Group is a set of people and machines. So far it is a name that a policy is given to.
type Group struct {
	ID          uuid.UUID
	Name        string
	Description string
	Version     int64
	UpdatedAt   time.Time
	UpdatedBy   string
}

// GroupEdit changes what is said about a group; a nil field stays.
type GroupEdit struct {
	Name        *string
	Description *string
}

// Policy is ordered rules and what holds otherwise, given to a group.
type Policy struct {
	ID          uuid.UUID
	Name        string
	Description string
	Group       Group
	Rules       []Rule
	Otherwise   policy.Verdict
	Version     int64
	UpdatedAt   time.Time
	UpdatedBy   string
}

// Rule gives its verdict to what is in one of its lists, or has one of its categories.
type Rule struct {
	Name    string
	Lists   []ListRef
	Verdict policy.Verdict

	Categories []string // keys of categories or families
}

// ListRef names a list.
type ListRef struct {
	ID   uuid.UUID
	Name string
}

// PolicyEdit changes a policy; a nil field stays. Rules are replaced whole.
type PolicyEdit struct {
	Name        *string
	Description *string
	Otherwise   *policy.Verdict
	Rules       *[]RuleEdit
}

// RuleEdit is a rule as it is to be.
type RuleEdit struct {
	Name    string
	Lists   []uuid.UUID
	Verdict policy.Verdict

	Categories []string
}

// Checked returns the edit with its name trimmed, or says what is wrong with it.
func (e GroupEdit) Checked() (GroupEdit, error) {
	edit, err := ListEdit{Name: e.Name, Description: e.Description}.Checked()
	e.Name = edit.Name
	return e, err
}

// Checked returns the edit with its names trimmed, or says what is wrong with it. Whether the lists exist is for the
// store to say.
func (e PolicyEdit) Checked() (PolicyEdit, error) {
	said, err := ListEdit{Name: e.Name, Description: e.Description}.Checked()
	if err != nil {
		return e, err
	}
	e.Name = said.Name
	if e.Otherwise != nil && !slices.Contains(policy.Verdicts, *e.Otherwise) {
		return e, &FieldError{"otherwise", fmt.Sprintf("%q is no verdict", *e.Otherwise)}
	}
	if e.Rules == nil {
		return e, nil
	}
	rules := slices.Clone(*e.Rules)
	for i := range rules {
		at := fmt.Sprintf("rules[%d]", i)
		if rules[i].Name, err = CheckName(at+".name", rules[i].Name); err != nil {
			return e, err
		}
		if len(rules[i].Lists) == 0 && len(rules[i].Categories) == 0 {
			return e, &FieldError{at + ".lists", "a rule without lists and categories never matches: name at least one"}
		}
		if !slices.Contains(policy.Verdicts, rules[i].Verdict) {
			return e, &FieldError{at + ".verdict", fmt.Sprintf("%q is no verdict", rules[i].Verdict)}
		}
	}
	e.Rules = &rules
	return e, nil
}
