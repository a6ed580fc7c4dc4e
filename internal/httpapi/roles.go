package httpapi

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"

	"widelark/internal/access"
	"widelark/internal/account"
)

// heldOf returns roles as the store has them.
func heldOf(roles []Role) []access.Held {
	held := make([]access.Held, len(roles))
	for i, r := range roles {
		held[i] = access.Held{Role: r.Role, Groups: refIDs(r.Groups), Lists: refIDs(r.Lists), Reach: r.Reach, Longest: time.Duration(r.Minutes) * time.Minute}
	}
	return held
}

func refIDs(refs []Ref) (ids []uuid.UUID) {
	for _, r := range refs {
		ids = append(ids, r.ID)
	}
	return ids
}

// roleBodies returns roles as they are answered. What bounds them and is gone from the draft has no name.
func (s *server) roleBodies(ctx context.Context, held []access.Held) ([]Role, error) {
	var ids []uuid.UUID
	for _, h := range held {
		ids = append(append(ids, h.Groups...), h.Lists...)
	}
	names, err := s.Objects.Names(ctx, ids)
	refs := func(ids []uuid.UUID) (refs []Ref) {
		for _, id := range ids {
			refs = append(refs, Ref{ID: id, Name: names[id]})
		}
		return refs
	}
	roles := make([]Role, len(held))
	for i, h := range held {
		roles[i] = Role{Role: h.Role, Groups: refs(h.Groups), Lists: refs(h.Lists), Reach: h.Reach, Minutes: int(h.Longest / time.Minute)}
	}
	return roles, err
}

func (s *server) accountAnswer(ctx context.Context, a account.Account, err error) (*accountOutput, error) {
	out := &accountOutput{Account{ID: a.ID, Name: a.Name, FullName: a.FullName, Provider: a.Issuer != "", Second: a.Second}}
	if err == nil {
		out.Body.Roles, err = s.roleBodies(ctx, a.Roles)
	}
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	return out, nil
}

func (s *server) tokenBody(ctx context.Context, t account.Token) (Token, error) {
	body := Token{ID: t.ID, Name: t.Name, CreatedAt: t.CreatedAt, LastUsedAt: t.LastUsedAt, ExpiresAt: t.ExpiresAt}
	if t.Roles == nil {
		return body, nil
	}
	var err error
	body.Roles, err = s.roleBodies(ctx, t.Roles)
	return body, err
}

// ofEntries is the operations that change, or fill, the entries of one list and nothing else.
var ofEntries = []string{"addEntries", "editEntries", "removeEntries", "importEntries", "rewriteList", "tidyList", "takeBack", "setSource", "removeSource", "pullSource"}

// ofEverybody is operations on what may concern everybody, which nobody carries out for some groups alone.
var ofEverybody = []string{"addCode", "endCode"}

// permitted returns the operations that somebody who holds some roles may carry out: a part for each act, with its bounds.
func permitted(held []access.Held) []Permitted {
	parts := []Permitted{}
	for _, act := range access.Acts() {
		if len(operations[act]) == 0 {
			continue
		}
		groups, lists, whole := access.Bounds(held, act)
		can := operations[act]
		if len(lists) > 0 {
			can = ofEntries
		}
		if len(groups) > 0 {
			can = slices.DeleteFunc(slices.Clone(can), func(id string) bool { return slices.Contains(ofEverybody, id) })
		}
		if whole || len(groups) > 0 || len(lists) > 0 {
			parts = append(parts, Permitted{Operations: can, Groups: groups, Lists: lists, Whole: whole})
		}
	}
	return parts
}

// deniedText says what was refused, which role would be enough, and who has it.
func (s *server) deniedText(ctx context.Context, denied *access.DeniedError) string {
	text := "This account may not " + string(denied.Act)
	if len(denied.Roles) > 0 {
		text = "Only " + plurals(denied.Roles) + " may " + string(denied.Act)
	}
	switch name := denied.Object.Name; {
	case denied.Object.Baseline:
		if text = "Only owners edit the baseline, and what its rules name"; name != "" {
			text += ", as " + name
		}
	case denied.Bound && name != "":
		text = fmt.Sprintf("This account may %s within the bounds of its role alone, and %s lies outside", denied.Act, name)
	case denied.Bound:
		text = fmt.Sprintf("This account may %s within the bounds of its role alone", denied.Act)
	case name != "":
		text += ": this is about " + name
	}
	text += ". Nothing was changed"
	if all, err := s.Accounts.Accounts(ctx); err == nil {
		if able := ableTo(all, denied); len(able) > 0 {
			text += "; ask " + strings.Join(able, " or ")
		}
	}
	return text + "."
}

// mostAsked is how many people a denial names.
const mostAsked = 3

// ableTo returns the names of some who may do what was denied: those first of whom the least is known to be theirs alone, as an editor before an owner.
func ableTo(all []account.Account, denied *access.DeniedError) (names []string) {
	for _, role := range denied.Roles {
		for _, a := range all {
			if access.Has(a.Roles, role) && access.Check(a.Actor(), a.Roles, denied.Act, denied.Object) == nil && !slices.Contains(names, cmp.Or(a.FullName, a.Name)) {
				names = append(names, cmp.Or(a.FullName, a.Name))
			}
		}
	}
	if len(names) > mostAsked {
		names = append(names[:mostAsked], fmt.Sprintf("%d others", len(names)-mostAsked))
	}
	return names
}

// plurals names roles, as "editors and owners".
func plurals(roles []access.Role) string {
	all := make([]string, len(roles))
	for i, r := range roles {
		all[i] = string(r) + "s"
		if r == access.HelpDesk {
			all[i] = "the help desk"
		}
	}
	if len(all) == 1 {
		return all[0]
	}
	return strings.Join(all[:len(all)-1], ", ") + " and " + all[len(all)-1]
}
