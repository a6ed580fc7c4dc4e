package object

import (
	"context"
	"fmt"
	"strings"
	"time"

	"github.com/google/uuid"
	"github.com/spf13/cobra"

	"widelark/client"
	"widelark/internal/cli/command"
)

// Shown is an object in the form in which `show` prints it.
type Shown struct {
	ID     uuid.UUID
	Data   any
	Fields [][2]string // names and values; tables leave out those without a value
}

// ShowCommand returns a command that prints one object, and where it is used.
func ShowCommand(a *command.App, noun, short string, get func(ctx context.Context, api *client.ClientWithResponses, name string) (*Shown, error)) *cobra.Command {
	return a.Reads(&cobra.Command{
		Use: "show NAME", Short: short, Args: command.Exactly("NAME"),
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			found, err := get(cmd.Context(), api, args[0])
			if err != nil {
				return err
			}
			if a.Format != "table" {
				v := command.View{Data: found.Data, Rows: [][]string{nil}}
				for _, f := range found.Fields {
					v.Columns, v.Rows[0] = append(v.Columns, f[0]), append(v.Rows[0], f[1])
				}
				return a.Show(v)
			}
			if noun != "exception" { // nothing refers to exceptions
				uses, err := api.GetUsesWithResponse(cmd.Context(), &client.GetUsesParams{Kind: client.GetUsesParamsKind(noun), ID: found.ID})
				if err != nil {
					return err
				}
				found.Fields = append(found.Fields, [2]string{"used by", usersText(uses.JSON200.Uses)})
			}
			widest := 0
			for _, f := range found.Fields[1:] {
				if f[1] != "" {
					widest = max(widest, len(f[0]))
				}
			}
			fmt.Fprintf(a.Out, "%s\n\n", found.Fields[0][1]) // the name
			for _, f := range found.Fields[1:] {
				if f[1] != "" {
					fmt.Fprintf(a.Out, "  %-*s  %s\n", widest, f[0], strings.TrimLeft(a.Wrapped(f[1], widest+4), " "))
				}
			}
			return nil
		}),
	})
}

// Edited returns who changed an object last, and when.
func Edited(a *command.App, by string, at time.Time) [2]string {
	return [2]string{"changed", fmt.Sprintf("by %s, %s", by, a.Moment(at))}
}
