package cli

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"strings"

	"github.com/google/uuid"
	"github.com/spf13/cobra"

	"widelark/client"
)

// recast gives one of the API's types the fields of another that it has too: what is fetched becomes what is sent back.
func recast[To any](from any) (to To, err error) {
	text, err := json.Marshal(from)
	if err == nil {
		err = json.Unmarshal(text, &to)
	}
	return to, err
}

// one is what commands need to know of an object of any kind.
type one struct {
	ID      uuid.UUID
	Name    string
	Version int64
	Full    string // another name that it goes by, which several may have; "" for none
}

// kind is a noun whose objects are found by name.
type kind interface {
	noun() string // what people call one
	word() string // what the command line calls it
	all(ctx context.Context, api *client.ClientWithResponses) ([]one, error)
	remove(ctx context.Context, api *client.ClientWithResponses, o one) error
}

// find returns the object of a name.
func find(ctx context.Context, api *client.ClientWithResponses, k kind, name string) (one, error) {
	all, err := k.all(ctx, api)
	if err != nil {
		return one{}, err
	}
	at, err := among(k, all, name)
	if err != nil {
		return one{}, err
	}
	return all[at], nil
}

// among returns the place of the object that has a name, or a full name that is no other's.
func among(k kind, all []one, name string) (int, error) {
	var full []int
	for i, o := range all {
		switch {
		case strings.EqualFold(o.Name, name):
			return i, nil
		case o.Full != "" && strings.EqualFold(o.Full, name):
			full = append(full, i)
		}
	}
	switch len(full) {
	case 0:
		return -1, fmt.Errorf("there is no %s %q; `widelark %s ls` shows which there are", k.noun(), name, k.word())
	case 1:
		return full[0], nil
	}
	var names []string
	for _, i := range full {
		names = append(names, all[i].Name)
	}
	return -1, fmt.Errorf("several are called %q: say which, as %s", name, strings.Join(names, ", "))
}

// references returns references to objects by their names.
func references(ctx context.Context, api *client.ClientWithResponses, k kind, names []string) ([]client.Ref, error) {
	refs := []client.Ref{}
	for _, name := range names {
		o, err := find(ctx, api, k, name)
		if err != nil {
			return nil, err
		}
		refs = append(refs, client.Ref{ID: o.ID, Name: &o.Name})
	}
	return refs, nil
}

// objects is a kind whose objects are fetched whole and sent back whole: Seen is what the API tells of one, Sent is what it takes.
type objects[Seen, Sent any] struct {
	called  string // what people call one
	command string // what the command line calls it, where that is another word
	list    func(ctx context.Context, api *client.ClientWithResponses) ([]Seen, error)
	about   func(Seen) one
	put     func(ctx context.Context, api *client.ClientWithResponses, id uuid.UUID, version *string, body Sent) (*Seen, error)
	take    func(ctx context.Context, api *client.ClientWithResponses, id uuid.UUID, version *string) error
}

func (k *objects[Seen, Sent]) noun() string { return k.called }
func (k *objects[Seen, Sent]) word() string { return cmp.Or(k.command, k.called) }

func (k *objects[Seen, Sent]) all(ctx context.Context, api *client.ClientWithResponses) ([]one, error) {
	found, err := k.list(ctx, api)
	all := make([]one, len(found))
	for i, o := range found {
		all[i] = k.about(o)
	}
	return all, err
}

func (k *objects[Seen, Sent]) remove(ctx context.Context, api *client.ClientWithResponses, o one) error {
	return k.take(ctx, api, o.ID, match(o.Version))
}

// get returns the object of a name.
func (k *objects[Seen, Sent]) get(ctx context.Context, api *client.ClientWithResponses, name string) (seen Seen, err error) {
	found, err := k.list(ctx, api)
	if err != nil {
		return seen, err
	}
	all := make([]one, len(found))
	for i, o := range found {
		all[i] = k.about(o)
	}
	at, err := among(k, all, name)
	if err != nil {
		return seen, err
	}
	return found[at], nil
}

// edit fetches the object of a name, has it changed in the form in which it is sent, and puts it back at the version that was seen.
func (k *objects[Seen, Sent]) edit(ctx context.Context, api *client.ClientWithResponses, name string, change func(*Sent) error) (*Seen, error) {
	seen, err := k.get(ctx, api, name)
	if err != nil {
		return nil, err
	}
	body, err := recast[Sent](seen)
	if err == nil {
		err = change(&body)
	}
	if err != nil {
		return nil, err
	}
	o := k.about(seen)
	return k.put(ctx, api, o.ID, match(o.Version), body)
}

func (a *app) removeCommand(k kind) *cobra.Command {
	return &cobra.Command{
		Use: "remove NAME...", Short: "Delete", Args: atLeast("NAME"),
		RunE: a.withAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			for _, name := range args {
				o, err := find(cmd.Context(), api, k, name)
				if err != nil {
					return err
				}
				if err := k.remove(cmd.Context(), api, o); err != nil {
					return err
				}
				fmt.Fprintf(a.out, "Deleted the %s %q.\n", k.noun(), o.Name)
			}
			return nil
		}),
	}
}

// orEmpty returns what a pointer points to; "" for nil.
func orEmpty[T ~string](p *T) string {
	if p == nil {
		return ""
	}
	return string(*p)
}

func namesOf(refs []client.Ref) string {
	var names []string
	for _, r := range refs {
		names = append(names, orEmpty(r.Name))
	}
	return strings.Join(names, ", ")
}

func deref[T any](p *T) T {
	var zero T
	if p == nil {
		return zero
	}
	return *p
}

// nothingToChange is for edits without a flag.
var nothingToChange = usagef("nothing to change: give at least one flag")
