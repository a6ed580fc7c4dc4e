package object

import (
	"context"
	"fmt"

	"github.com/google/uuid"
	"github.com/spf13/cobra"

	"widelark/client"
	"widelark/internal/cli/command"
)

// FindList returns the list with a name. Letter case is ignored.
func FindList(ctx context.Context, api *client.ClientWithResponses, name string) (client.List, error) {
	found, err := api.GetListsWithResponse(ctx, &client.GetListsParams{Name: &name})
	if err != nil {
		return client.List{}, err
	}
	if len(found.JSON200.Lists) == 0 {
		return client.List{}, fmt.Errorf("there is no list %q; `widelark list ls` shows which there are", name)
	}
	return found.JSON200.Lists[0], nil
}

// FindLists returns the ids of lists by their names.
func FindLists(ctx context.Context, api *client.ClientWithResponses, names []string) ([]uuid.UUID, error) {
	ids := make([]uuid.UUID, len(names))
	for i, name := range names {
		l, err := FindList(ctx, api, name)
		if err != nil {
			return nil, err
		}
		ids[i] = l.ID
	}
	return ids, nil
}

// WithList returns the function of a command whose first argument names a list; do gets the list and the other arguments.
func WithList(a *command.App, run func(cmd *cobra.Command, api *client.ClientWithResponses, l client.List, rest []string) error) func(*cobra.Command, []string) error {
	return a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
		l, err := FindList(cmd.Context(), api, args[0])
		if err != nil {
			return err
		}
		return run(cmd, api, l, args[1:])
	})
}
