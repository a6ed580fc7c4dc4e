package cli

import (
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/spf13/cobra"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widelark/internal/cli/command"
)

// words splits a line like a shell, as far as the examples need: quotation marks, and the end of a command.
func shellWords(line string) (words []string) {
	word, quote, open := "", rune(0), false
	for _, c := range line {
		switch {
		case quote != 0 && c == quote:
			quote = 0
		case quote != 0:
			word += string(c)
		case c == '"' || c == '\'':
			quote, open = c, true
		case strings.ContainsRune("|;&<>#\n", c):
			if word != "" || open {
				words = append(words, word)
			}
			return words
		case c == ' ':
			if word != "" || open {
				words = append(words, word)
			}
			word, open = "", false
		default:
			word += string(c)
		}
	}
	if word != "" || open {
		words = append(words, word)
	}
	return words
}

func TestShellWords(t *testing.T) {
	for line, want := range map[string][]string{
		`list ls`: {"list", "ls"}, `try --as "Kay Moran" 'a b' > x`: {"try", "--as", "Kay Moran", "a b"}, `policy show ""`: {"policy", "show", ""}, `a --x="b c"; d`: {"a", "--x=b c"}, `find && echo`: {"find"},
	} {
		assert.Equal(t, want, shellWords(line), line)
	}
}

// parses returns the error of a command line, without running it.
func parses(args []string) error {
	root := root((&command.App{}))
	cmd, rest, err := root.Find(args)
	if err != nil {
		return err
	}
	if err := cmd.ParseFlags(rest); err != nil {
		return err
	}
	return cmd.ValidateArgs(cmd.Flags().Args())
}

var (
	// In blocks, a command stands at the beginning of a line or after a prompt, a path, or what fills its input.
	blockCommand = regexp.MustCompile(`(?m)^(?:    |)(?:\$ )?(?:.*\| )?(?:bin/)?widelark ((?:\\\n|.)+)$`)
	inlineText   = regexp.MustCompile("`(?:bin/)?widelark ([^`]+)`")
)

// Every command in the documentation exists, with its flags.
func TestDocumentedCommands(t *testing.T) {
	files, err := filepath.Glob("../../docs/guide/*.md")
	require.NoError(t, err)
	found := 0
	for _, file := range append(files, "../../README.md", "../../CHANGELOG.md") {
		text, err := os.ReadFile(file)
		require.NoError(t, err)
		for _, match := range blockCommand.FindAllStringSubmatch(string(text), -1) {
			line := strings.NewReplacer("\\\n", " ", "…", "").Replace(match[1])
			assert.NoError(t, parses(shellWords(line)), "%s: widelark %s", file, match[1])
			found++
		}
		for _, match := range inlineText.FindAllStringSubmatch(string(text), -1) {
			line := strings.NewReplacer("\n", " ", "[", "", "]", "", "…", "").Replace(match[1])
			cmd, rest, err := root((&command.App{})).Find(shellWords(line))
			require.NoError(t, err, "%s: widelark %s", file, match[1])
			assert.NotEqual(t, "widelark", cmd.Name(), "%s: widelark %s", file, match[1])
			flags := []string{}
			for _, word := range rest {
				if strings.HasPrefix(word, "--") {
					flags = append(flags, strings.SplitN(strings.TrimPrefix(word, "--"), "=", 2)[0])
				}
			}
			for _, flag := range flags {
				assert.NotNil(t, cmd.Flag(flag), "%s: widelark %s has no flag --%s", file, match[1], flag)
			}
			found++
		}
	}
	assert.Greater(t, found, 120, "the documentation has many more commands than were found")
}

// Every example in the help is a valid command; every command has a description, and those that read have every output format.
func TestHelp(t *testing.T) {
	reading := map[string]bool{"ls": true, "show": true, "find": true, "tree": true, "status": true, "who": true, "try": true, "lookup": true, "history": true, "diff": true, "review": true, "replay": true, "affected": true, "audit": true}
	root := root((&command.App{}))
	exemplify(root)
	command.Walk(root, func(cmd *cobra.Command) {
		path := cmd.CommandPath()
		assert.NotEmpty(t, cmd.Short, path)
		assert.False(t, strings.HasSuffix(cmd.Short, "."), "%s: a short text is not a sentence", path)
		if reading[cmd.Name()] && cmd.HasParent() && !cmd.HasSubCommands() {
			assert.NotNil(t, cmd.Flag("output"), "%s reads, and has no -o", path)
		}
		assert.True(t, cmd.Example != "" || cmd.HasSubCommands(), "%s has no example", path)
		for _, match := range blockCommand.FindAllStringSubmatch(strings.ReplaceAll("\n"+cmd.Example, "\n  ", "\n"), -1) {
			for _, line := range strings.Split(match[1], "; widelark ") {
				assert.NoError(t, parses(shellWords(line)), "%s: widelark %s", path, line)
			}
		}
	})
}
