package command

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"

	"golang.org/x/term"
)

// Passwords asks for passwords one after the other.
func (a *App) Passwords(fromInput bool, questions ...string) (given []string, _ error) {
	keyboard, isFile := a.In.(*os.File)
	onTerminal := isFile && term.IsTerminal(int(keyboard.Fd()))
	if !onTerminal && !fromInput {
		return nil, Usagef("there is no terminal to ask for the password: give it with --password-stdin")
	}
	in := bufio.NewReader(a.In)
	for _, question := range questions {
		if onTerminal && !fromInput {
			fmt.Fprint(a.Err, question)
			password, err := term.ReadPassword(int(keyboard.Fd()))
			fmt.Fprintln(a.Err)
			if err != nil {
				return nil, err
			}
			given = append(given, string(password))
			continue
		}
		line, err := in.ReadString('\n')
		if err != nil && !errors.Is(err, io.EOF) {
			return nil, err
		}
		given = append(given, strings.TrimRight(line, "\r\n"))
	}
	return given, nil
}
