// Suite runs a command, as `go test ./...`, with what the tests of all packages can share: a PostgreSQL server, the built programs, a
// Chromium. Each is started once for all of them. `make test` calls it; a package that is tested without it brings its own.
package main

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"os/signal"

	"widelark/internal/testkit"
)

func main() {
	code, err := run(os.Args[1:])
	if err != nil {
		fmt.Fprintln(os.Stderr, "suite:", err)
	}
	os.Exit(code)
}

func run(args []string) (code int, err error) {
	if len(args) == 0 {
		return 2, errors.New("say which command to run, as go test ./...")
	}
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt)
	defer stop()
	variables, end, err := testkit.Share(ctx)
	if err != nil {
		return 1, err
	}
	defer end()
	cmd := exec.CommandContext(ctx, args[0], args[1:]...)
	cmd.Env = append(os.Environ(), variables...)
	cmd.Stdin, cmd.Stdout, cmd.Stderr = os.Stdin, os.Stdout, os.Stderr
	err = cmd.Run()
	var failed *exec.ExitError
	if errors.As(err, &failed) {
		return max(1, failed.ExitCode()), nil // it has said what is wrong
	}
	if err != nil {
		return 1, err
	}
	return 0, nil
}
