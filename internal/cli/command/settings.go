package command

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"

	"github.com/knadh/koanf/parsers/yaml"
	"github.com/knadh/koanf/providers/env/v2"
	"github.com/knadh/koanf/providers/file"
	"github.com/knadh/koanf/providers/posflag"
	"github.com/knadh/koanf/v2"
	"github.com/spf13/pflag"
)

// Settings holds the address of the service and the token: from flags, environment and the file that `login` writes, in that
// order.
type Settings struct {
	Server string `koanf:"server"` // Defaults to http://127.0.0.1:8470.
	Token  string `koanf:"token"`
	ID     string `koanf:"id"`   // the id of the token, by which `logout` removes it
	Name   string `koanf:"name"` // who signed in
	path   string
	Given  bool // the token comes from WIDELARK_TOKEN, not from the file
}

func (s *Settings) Load(flags *pflag.FlagSet) error {
	s.path, _ = flags.GetString("config")
	if s.path == "" {
		s.path = os.Getenv("WIDELARK_CONFIG")
	}
	if s.path == "" {
		dir, err := os.UserConfigDir()
		if err != nil {
			return fmt.Errorf("there is no place for the sign-in: %w; name one with --config", err)
		}
		s.path = filepath.Join(dir, "widelark", "client.yaml")
	}
	k := koanf.New("/")
	if err := k.Load(file.Provider(s.path), yaml.Parser()); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return fmt.Errorf("%s cannot be read: %w", s.path, err)
	}
	variables := map[string]string{"WIDELARK_SERVER": "server", "WIDELARK_TOKEN": "token"}
	err := k.Load(env.Provider("/", env.Opt{Prefix: "WIDELARK_", TransformFunc: func(name, value string) (string, any) {
		return variables[name], value
	}}), nil)
	if err != nil {
		return err
	}
	if err := k.Load(posflag.Provider(flags, "/", k), nil); err != nil {
		return err
	}
	if err := k.Unmarshal("", s); err != nil {
		return fmt.Errorf("%s: %w", s.path, err)
	}
	if s.Given = os.Getenv("WIDELARK_TOKEN") != ""; s.Given { // the environment does not say whose token it is
		s.Name, s.ID = "", ""
	}
	if s.Server == "" {
		s.Server = "http://127.0.0.1:8470"
	}
	return nil
}

// Save writes the file, readable by its owner only.
func (s *Settings) Save() error {
	text, err := yaml.Parser().Marshal(map[string]any{"server": s.Server, "token": s.Token, "id": s.ID, "name": s.Name})
	if err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Dir(s.path), 0o700); err != nil {
		return err
	}
	return os.WriteFile(s.path, text, 0o600)
}
