// Package command is what the commands of `widelark` share: one run of the program, arguments, moments, files and tables.
//
// From: arguments, standard input, the settings.
// To: the API, by package client; what is printed.
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

// ErrNo ends a command whose answer is "no", after it has said so.
var ErrNo = errors.New("no")

// App is what the commands share in one run.
type App struct {
	In       io.Reader
	Out, Err io.Writer
	Settings Settings
	Format   string
	Version  string

	asked        sync.Once
	organisation *time.Location // see zone
	zoneless     error
}

// API returns a client with the kept sign-in.
func (a *App) API() (*client.ClientWithResponses, error) {
	return client.New(a.Settings.Server, a.Settings.Token)
}

// WithAPI makes what a command runs from a function that wants a client.
func (a *App) WithAPI(run func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error) func(*cobra.Command, []string) error {
	return func(cmd *cobra.Command, args []string) error {
		api, err := a.API()
		if err != nil {
			return err
		}
		return run(cmd, api, args)
	}
}
