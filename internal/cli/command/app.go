// Package command holds the common parts of the commands of `widelark`: one run of the program, arguments, moments, files and tables.
//
// From: arguments, standard input, the settings.
// To: the API, by package client, and printed output.
package command

import (
	"errors"
	"io"
	"sync"
	"time"

	"github.com/spf13/cobra"

	"widelark/client"
)

// The exit codes.
const (
	ExitDone     = 0
	ExitNo       = 1 // the answer is "no"
	ExitUsage    = 2
	ExitCouldNot = 3
)

// ErrNo ends a command whose answer is "no". The command has printed its answer before.
var ErrNo = errors.New("no")

// App holds the state that the commands of one run share.
type App struct {
	In       io.Reader
	Out, Err io.Writer
	Settings Settings
	Format   string
	Version  string

	asked        sync.Once
	organisation *time.Location // see [App.Zone]; nil until it is known
	zoneless     error
}

// API returns a client with the stored token.
func (a *App) API() (*client.ClientWithResponses, error) {
	return client.New(a.Settings.Server, a.Settings.Token)
}

// WithAPI returns the function of a command that needs a client.
func (a *App) WithAPI(run func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error) func(*cobra.Command, []string) error {
	return func(cmd *cobra.Command, args []string) error {
		api, err := a.API()
		if err != nil {
			return err
		}
		return run(cmd, api, args)
	}
}
