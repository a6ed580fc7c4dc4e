package question

import (
	"bufio"
	"fmt"
	"strings"

	"widelark/internal/cli/command"
)

// Batch is the number of URLs of one call: large enough that the overhead of a call does not matter, small enough that
// progress is visible.
const Batch = 5000

// ReadURLs reads one URL a line, and skips blank lines and lines that begin with "#".
func ReadURLs(a *command.App, name string) ([]string, error) {
	file, err := a.Open(name)
	if err != nil {
		return nil, err
	}
	defer file.Close()
	var urls []string
	lines := bufio.NewScanner(file)
	lines.Buffer(nil, 1<<20)
	for lines.Scan() {
		if line := strings.TrimSpace(strings.TrimPrefix(lines.Text(), "\uFEFF")); line != "" && line[0] != '#' {
			urls = append(urls, line)
		}
	}
	if err := lines.Err(); err != nil {
		return nil, fmt.Errorf("%s: %w", name, err)
	}
	if len(urls) == 0 {
		return nil, fmt.Errorf("%s holds no URLs", name)
	}
	return urls, nil
}

// NoURL takes the place of a verdict for a text that is not a URL.
func NoURL(a *command.App) string {
	if a.Format == "table" {
		return "? no URL"
	}
	return "no URL"
}
