package demo

import (
	"context"
	"slices"

	"widelark/client"
)

// account is somebody of the demo who signs in, beside its owner.
type account struct {
	name, fullName string
	role           client.RoleRole
	groups         func(name string) bool // that the role is for; nil for no bounds
	lists          []string               // likewise
}

var accounts = []account{
	{name: "ivo", fullName: "Ivo Tern", role: "editor"},
	{name: "mara", fullName: "Mara Holm", role: "publisher"},
	{name: "desk", fullName: "Help desk", role: "help desk", groups: func(name string) bool { return name != "Research library" }},
	{name: "sedge", fullName: "Ivo Sedge", role: "lead", groups: func(name string) bool { return name == "Trainees" }},
	{name: "pharmacy", fullName: "Pharmacy", role: "editor", lists: []string{"Formulary and dosage sites"}},
	{name: "auditor", fullName: "Audit office", role: "auditor"},
}

// claims are what groups of the identity provider may do: see [Staff].
var claims = []struct {
	value, group string
	role         client.RoleRole
}{{"lark-desk", "Ward nurses", "help desk"}, {"lark-readers", "", "reader"}}

// orders is the token of a program that may only look up.
const orders = "ordering system"

// loadAccounts adds the accounts of the demo, which have its password, and a token with bounds.
func loadAccounts(ctx context.Context, api *client.ClientWithResponses) error {
	groups, err := api.GetGroupsWithResponse(ctx, nil)
	if err != nil {
		return err
	}
	all, err := api.GetListsWithResponse(ctx, nil)
	if err != nil {
		return err
	}
	there, err := api.GetAccountsWithResponse(ctx)
	if err != nil {
		return err
	}
	for _, a := range accounts {
		if slices.ContainsFunc(there.JSON200.Accounts, func(o client.Account) bool { return o.Name == a.name }) { // the load was broken off
			continue
		}
		role := client.Role{Role: a.role}
		var refs []client.Ref
		if a.groups != nil {
			for _, g := range groups.JSON200.Items {
				if a.groups(g.Name) {
					refs = append(refs, client.Ref{ID: g.ID})
				}
			}
			role.Groups = &refs
		}
		for _, name := range a.lists {
			for _, l := range all.JSON200.Lists {
				if l.Name == name {
					refs = append(refs, client.Ref{ID: l.ID})
				}
			}
			role.Lists = &refs
		}
		if _, err := api.AddAccountWithResponse(ctx, client.NewAccountInputBody{Name: a.name, FullName: &a.fullName, Password: Password, Roles: &[]client.Role{role}}); err != nil {
			return err
		}
	}
	for _, c := range claims {
		role := client.Role{Role: c.role}
		if c.group != "" {
			for _, g := range groups.JSON200.Items {
				if g.Name == c.group {
					role.Groups = &[]client.Ref{{ID: g.ID}}
				}
			}
		}
		if _, err := api.PutClaimWithResponse(ctx, &client.PutClaimParams{Group: c.value}, client.PutClaimInputBody{Roles: []client.Role{role}}); err != nil {
			return err
		}
	}
	_, err = api.CreateTokenWithResponse(ctx, client.NewTokenInputBody{Name: orders, Roles: &[]client.Role{{Role: "reader"}}})
	return err
}
