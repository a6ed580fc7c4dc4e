// Package object finds and changes the objects that commands name: people, groups, lists, policies and the like.
//
// From: names.
// To: objects in the form of the API.
package object

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"strings"

	"github.com/google/uuid"
	"github.com/spf13/cobra"

	"widelark/client"
	"widelark/internal/cli/command"
)

// Recast copies the common fields of one of the API's types to another: a fetched object becomes the body that is sent back.
func Recast[To any](from any) (to To, err error) {
	text, err := json.Marshal(from)
	if err == nil {
		err = json.Unmarshal(text, &to)
	}
	return to, err
}

// One holds what commands need of an object of any kind.
type One struct {
	ID      uuid.UUID
	Name    string
	Version int64
	Full    string // another name, which need not be unique; "" for none
}

// Kind is a noun whose objects are found by name.
type Kind interface {
	Noun() string // the noun for people
	Word() string // the noun of the command line
	All(ctx context.Context, api *client.ClientWithResponses) ([]One, error)
	Remove(ctx context.Context, api *client.ClientWithResponses, o One) error
}

// Find returns the object with a name.
func Find(ctx context.Context, api *client.ClientWithResponses, k Kind, name string) (One, error) {
	all, err := k.All(ctx, api)
	if err != nil {
		return One{}, err
	}
	at, err := Among(k, all, name)
	if err != nil {
		return One{}, err
	}
	return all[at], nil
}

// Among returns the index of the object with a name, or with a full name that no other object has.
func Among(k Kind, all []One, name string) (int, error) {
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
		return -1, fmt.Errorf("there is no %s %q; `widelark %s ls` shows which there are", k.Noun(), name, k.Word())
	case 1:
		return full[0], nil
	}
	var names []string
	for _, i := range full {
		names = append(names, all[i].Name)
	}
	return -1, fmt.Errorf("several are called %q: say which, as %s", name, strings.Join(names, ", "))
}

// References returns references to the objects with the given names.
func References(ctx context.Context, api *client.ClientWithResponses, k Kind, names []string) ([]client.Ref, error) {
	refs := []client.Ref{}
	for _, name := range names {
		o, err := Find(ctx, api, k, name)
		if err != nil {
			return nil, err
		}
		refs = append(refs, client.Ref{ID: o.ID, Name: &o.Name})
	}
	return refs, nil
}

// Objects is a kind whose objects are fetched and sent whole: the API returns Seen and takes Sent.
type Objects[Seen, Sent any] struct {
	called  string // the noun for people
	command string // the noun of the command line, if it is another word
	List    func(ctx context.Context, api *client.ClientWithResponses) ([]Seen, error)
	about   func(Seen) One
	put     func(ctx context.Context, api *client.ClientWithResponses, id uuid.UUID, version *string, body Sent) (*Seen, error)
	take    func(ctx context.Context, api *client.ClientWithResponses, id uuid.UUID, version *string) error
}

// Noun implements [Kind].
func (k *Objects[Seen, Sent]) Noun() string { return k.called }

// Word implements [Kind].
func (k *Objects[Seen, Sent]) Word() string { return cmp.Or(k.command, k.called) }

// All implements [Kind].
func (k *Objects[Seen, Sent]) All(ctx context.Context, api *client.ClientWithResponses) ([]One, error) {
	found, err := k.List(ctx, api)
	return k.brief(found), err
}

func (k *Objects[Seen, Sent]) brief(found []Seen) []One {
	all := make([]One, len(found))
	for i, o := range found {
		all[i] = k.about(o)
	}
	return all
}

// Remove implements [Kind].
func (k *Objects[Seen, Sent]) Remove(ctx context.Context, api *client.ClientWithResponses, o One) error {
	return k.take(ctx, api, o.ID, command.Match(o.Version))
}

// Get returns the object with a name.
func (k *Objects[Seen, Sent]) Get(ctx context.Context, api *client.ClientWithResponses, name string) (seen Seen, err error) {
	found, err := k.List(ctx, api)
	if err != nil {
		return seen, err
	}
	at, err := Among(k, k.brief(found), name)
	if err != nil {
		return seen, err
	}
	return found[at], nil
}

// Edit fetches the object with a name, calls change with it in the form in which it is sent, and puts it back. The service refuses it if somebody has edited the object since.
func (k *Objects[Seen, Sent]) Edit(ctx context.Context, api *client.ClientWithResponses, name string, change func(*Sent) error) (*Seen, error) {
	seen, err := k.Get(ctx, api, name)
	if err != nil {
		return nil, err
	}
	body, err := Recast[Sent](seen)
	if err == nil {
		err = change(&body)
	}
	if err != nil {
		return nil, err
	}
	o := k.about(seen)
	return k.put(ctx, api, o.ID, command.Match(o.Version), body)
}

// RemoveCommand returns a command that deletes objects by name.
func RemoveCommand(a *command.App, k Kind) *cobra.Command {
	return &cobra.Command{
		Use: "remove NAME...", Short: "Delete", Args: command.AtLeast("NAME"),
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			for _, name := range args {
				o, err := Find(cmd.Context(), api, k, name)
				if err != nil {
					return err
				}
				if err := k.Remove(cmd.Context(), api, o); err != nil {
					return err
				}
				fmt.Fprintf(a.Out, "Deleted the %s %q.\n", k.Noun(), o.Name)
			}
			return nil
		}),
	}
}

// NamesOf returns the names of references, separated by commas.
func NamesOf(refs []client.Ref) string {
	var names []string
	for _, r := range refs {
		names = append(names, command.OrEmpty(r.Name))
	}
	return strings.Join(names, ", ")
}
