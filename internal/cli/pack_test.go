package cli

import (
	"bytes"
	"context"
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widelark/internal/cli/command"
)

// desk is a folder with the files of a maker of packs, in which commands run.
type desk struct {
	t   *testing.T
	dir string
}

func newDesk(t *testing.T) desk {
	t.Helper()
	d := desk{t, t.TempDir()}
	d.write("taxonomy.json", `{"families":[{"key":"play","name":"Play","about":""}],"categories":[
		{"key":"games","family":"play","name":"Games","about":""},{"key":"chat","family":"play","name":"Chat","about":""}]}`)
	d.write("sites.csv", "entry,categories\nheron.example,games\nHERON.example,chat\ngull.example/map,chat\n203.0.113.0/24,games\n")
	return d
}

func (d desk) path(name string) string { return filepath.Join(d.dir, name) }

func (d desk) write(name, text string) {
	d.t.Helper()
	require.NoError(d.t, os.WriteFile(d.path(name), []byte(text), 0o600))
}

// run runs a command; a word that begins with @ is a file in the folder.
func (d desk) run(words ...string) (code int, out, errs string) {
	d.t.Helper()
	d.t.Setenv("WIDELARK_CONFIG", d.path("client.yaml"))
	for i, word := range words {
		if name, ok := strings.CutPrefix(word, "@"); ok {
			words[i] = d.path(name)
		}
	}
	var stdout, stderr bytes.Buffer
	code = Run(context.Background(), words, strings.NewReader(""), &stdout, &stderr, "test")
	return code, strings.ReplaceAll(stdout.String(), d.dir, "DIR"), strings.ReplaceAll(stderr.String(), d.dir, "DIR")
}

func (d desk) build(out, number string, more ...string) (code int, told string) {
	d.t.Helper()
	words := append([]string{
		"pack", "build", out, "@sites.csv", "--taxonomy", "@taxonomy.json", "--key", "@makers.pem", "--pack", "harbour", "--name", "Harbour", "--number", number,
		"--licence", "CC0-1.0", "--date", "2026-11-20T06:00:00Z",
	}, more...)
	code, stdout, stderr := d.run(words...)
	return code, stdout + stderr
}

// Packs are built and checked without a service.
func TestPackBuild(t *testing.T) {
	d := newDesk(t)
	code, key, told := d.run("pack", "key", "@makers.pem")
	require.Zero(t, code, told)
	assert.Contains(t, told, "Keep it to yourself")
	info, err := os.Stat(d.path("makers.pem"))
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm(), "nobody else may read it")
	_, again, told := d.run("pack", "key", "@makers.pem")
	assert.Equal(t, key, again, "an existing key is printed, not replaced")
	assert.Empty(t, told)

	code, told = d.build("@one.larkpack", "1")
	require.Zero(t, code, told)
	assert.Equal(t, "Wrote DIR/one.larkpack: Harbour, version 1, 3 sites.\n", told)
	code, out, _ := d.run("pack", "verify", "@one.larkpack", "--key", strings.TrimSpace(key))
	require.Zero(t, code)
	assert.Equal(t, "Harbour (harbour), version 1 of 2026-11-20: a whole pack of 3 sites, licence CC0-1.0\nSigned by "+key+
		"\nCategory  Sites\n─────────────────\nchat          2\ngames         2\n", out)
	code, out, _ = d.run("pack", "verify", "@one.larkpack", "-o", "json")
	require.Zero(t, code)
	var summary struct {
		Content struct{ Version, Sites, Base int64 }
		Sites   map[string]int64
	}
	require.NoError(t, json.Unmarshal([]byte(out), &summary))
	assert.Equal(t, map[string]int64{"games": 2, "chat": 2}, summary.Sites)
	assert.EqualValues(t, 3, summary.Content.Sites)

	// The next version, as what changed since.
	d.write("sites.csv", "entry,categories\nheron.example,games\ntern.example,chat\n203.0.113.0/24,games\n")
	code, told = d.build("@two.larkpack", "2", "--base", d.path("one.larkpack"))
	require.Zero(t, code, told)
	_, out, _ = d.run("pack", "verify", "@two.larkpack")
	assert.Contains(t, out, "version 2 of 2026-11-20: what changed since version 1 of 3 sites")
	code, told = d.build("@three.larkpack", "3", "--base", d.path("two.larkpack"))
	assert.Equal(t, command.ExitCouldNot, code)
	assert.Contains(t, told, "is not a whole pack")

	code, told = d.build("@one.larkpack", "1")
	assert.Equal(t, command.ExitCouldNot, code)
	assert.Contains(t, told, "DIR/one.larkpack is there already; choose another name, or say --force")
	code, _ = d.build("@one.larkpack", "4", "--force")
	assert.Zero(t, code)
}

// An error in a maker's files is reported with its place, and leaves no incomplete pack behind.
func TestPackBuildRefusals(t *testing.T) {
	d := newDesk(t)
	_, _, _ = d.run("pack", "key", "@makers.pem")
	good := map[string]string{}
	for _, name := range []string{"sites.csv", "taxonomy.json", "makers.pem"} {
		text, err := os.ReadFile(d.path(name))
		require.NoError(t, err)
		good[name] = string(text)
	}
	for want, file := range map[string][2]string{
		`sites.csv, line 3: the category "sport" is not in the taxonomy`:      {"sites.csv", "entry,categories\na.example,games\nb.example,sport\n"},
		`sites.csv, line 2: "*.co*.example" is host-glob`:                     {"sites.csv", "entry,categories\n*.co*.example,games\n"},
		"sites.csv, line 1: the columns entry and categories are wanted":      {"sites.csv", "site,kind\n"},
		"taxonomy.json: no taxonomy":                                          {"taxonomy.json", "{"},
		`taxonomy.json: families[0]: the key "Play" is not made of a-z`:       {"taxonomy.json", `{"families":[{"key":"Play","name":"Play"}]}`},
		"makers.pem: no PEM file with a private key":                          {"makers.pem", "secret"},
		"sites.csv, line 2: no category is given":                             {"sites.csv", "entry,categories\na.example, \n"},
		`sites.csv, line 2: extraneous or missing " in quoted-field`:          {"sites.csv", "entry,categories\n\"a.example,games\n"},
		`taxonomy.json: categories[0]: "games" is in a family "" that is not`: {"taxonomy.json", `{"categories":[{"key":"games","name":"Games"}]}`},
	} {
		d.write(file[0], file[1])
		code, told := d.build("@bad.larkpack", "1")
		assert.Equal(t, command.ExitCouldNot, code, want)
		assert.Contains(t, told, want)
		assert.NoFileExists(t, d.path("bad.larkpack"), want)
		d.write(file[0], good[file[0]])
	}
	for want, words := range map[string][]string{
		"wanted: OUT SITES.csv":  {"pack", "build", "@x.larkpack"},
		"required flag(s)":       {"pack", "build", "@x.larkpack", "@sites.csv"},
		"--date: \"yesterday\"":  {"pack", "build", "@x.larkpack", "@sites.csv", "--taxonomy", "@taxonomy.json", "--key", "@makers.pem", "--pack", "p", "--name", "P", "--number", "1", "--licence", "x", "--date", "yesterday"},
		"pack has no verb":       {"pack", "bild"},
		"wanted: FILE; got 0":    {"pack", "verify"},
		"no such file":           {"pack", "build", "@x.larkpack", "@none.csv", "--taxonomy", "@taxonomy.json", "--key", "@makers.pem", "--pack", "p", "--name", "P", "--number", "1", "--licence", "x"},
		"there is no output for": {"pack", "verify", "@x", "-o", "sheet"},
	} {
		code, _, told := d.run(words...)
		assert.NotZero(t, code, want)
		assert.Contains(t, told, want)
	}
	code, out, _ := d.run("pack", "verify", "@sites.csv")
	assert.Equal(t, command.ExitNo, code)
	assert.Contains(t, out, "DIR/sites.csv is not good: no pack, or damaged, or not whole")
}
