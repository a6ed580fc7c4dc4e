// Package service puts the parts together: it reads the settings, starts everything in order and stops it in the
// reverse order. It is the only package that knows all others.
//
// From: the arguments of `widelarkd`.
// To: a running service.
package service

import (
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"net"
	"net/netip"
	"os"
	"strings"
	"time"

	"github.com/knadh/koanf/parsers/yaml"
	"github.com/knadh/koanf/providers/env/v2"
	"github.com/knadh/koanf/providers/file"
	"github.com/knadh/koanf/providers/posflag"
	"github.com/knadh/koanf/v2"
	"github.com/spf13/pflag"
)

// Config is the settings of a service. Flags come before the environment (WIDELARKD_LISTEN and so on), and the environment
// before the file that --config names.
type Config struct {
	// Listen is the address that the API and the console are served on. Defaults to 127.0.0.1:8470, which only this
	// machine reaches.
	Listen string `koanf:"listen"`

	// DatabaseURL says where PostgreSQL is, as postgres://widelark@127.0.0.1/widelark. It must be given.
	DatabaseURL string `koanf:"database-url"`

	// TimeZone is the organisation's IANA zone: the end dates of entries are days there. Defaults to UTC.
	TimeZone string `koanf:"time-zone"`

	// SecureCookies keeps the session's cookie off plain HTTP. Set it where people reach the service over TLS.
	// Defaults to false.
	SecureCookies bool `koanf:"secure-cookies"`

	// Names are the host names and addresses that people reach the service by; requests for others are refused. Defaults to those of
	// its own machine (localhost, 127.0.0.1, ::1), and the address that it listens on, where that is one.
	Names []string `koanf:"names"`

	// SourceRanges are ranges inside the organisation's network from which lists and packs may be fetched, as 10.40.0.0/16. Defaults to
	// none: only public addresses are connected to.
	SourceRanges []string `koanf:"source-ranges"`

	// LogLevel is the least important level that is logged: debug, info, warn or error. Defaults to info.
	LogLevel string `koanf:"log-level"`
}

// flags declares the settings of a service on a command.
func flags(set *pflag.FlagSet) {
	set.String("config", "", "a YAML file with any of the settings below (also WIDELARKD_CONFIG)")
	set.String("listen", "127.0.0.1:8470", "the address that the API and the console are served on (also WIDELARKD_LISTEN)")
	set.String("time-zone", "UTC", "the organisation's time zone, as Europe/London (also WIDELARKD_TIME_ZONE)")
	set.Bool("secure-cookies", false, "for services that people reach over TLS (also WIDELARKD_SECURE_COOKIES)")
	set.StringSlice("names", nil, "the names that people reach the service by, with commas between them; others are refused (default those of this machine; also WIDELARKD_NAMES)")
	set.StringSlice("source-ranges", nil, "ranges inside your network that lists and packs may be fetched from, as 10.40.0.0/16 (also WIDELARKD_SOURCE_RANGES)")
	set.String("log-level", "info", "debug, info, warn or error (also WIDELARKD_LOG_LEVEL)")
}

// LoadConfig reads the settings of a command's flags, the environment and the file, in that order.
func LoadConfig(set *pflag.FlagSet) (Config, error) {
	k := koanf.New("/")
	path, _ := set.GetString("config")
	if path == "" {
		path = os.Getenv("WIDELARKD_CONFIG")
	}
	if path != "" {
		if err := k.Load(file.Provider(path), yaml.Parser()); errors.Is(err, fs.ErrNotExist) {
			return Config{}, fmt.Errorf("there is no settings file %s", path)
		} else if err != nil {
			return Config{}, fmt.Errorf("the settings file %s cannot be read: %w", path, err)
		}
		for _, key := range k.Keys() {
			if set.Lookup(key) == nil {
				return Config{}, fmt.Errorf("the settings file %s has %q, which is not a setting", path, key)
			}
		}
	}
	err := k.Load(env.Provider("/", env.Opt{Prefix: "WIDELARKD_", TransformFunc: func(name, value string) (string, any) {
		return strings.ReplaceAll(strings.ToLower(strings.TrimPrefix(name, "WIDELARKD_")), "_", "-"), value
	}}), nil)
	if err != nil {
		return Config{}, err
	}
	if err := k.Load(posflag.Provider(set, "/", k), nil); err != nil {
		return Config{}, err
	}
	var config Config
	if err := k.Unmarshal("", &config); err != nil {
		return Config{}, fmt.Errorf("the settings cannot be read: %w", err)
	}
	return config, config.validate()
}

// sourceRanges returns the ranges that sources may be in.
func (c Config) sourceRanges() (ranges []netip.Prefix, _ error) {
	for _, text := range c.SourceRanges {
		for part := range strings.SplitSeq(text, ",") { // the environment has one text
			if part = strings.TrimSpace(part); part == "" {
				continue
			}
			one, err := netip.ParsePrefix(part)
			if err != nil {
				return nil, fmt.Errorf("source-ranges: %q is not a range; write it like 10.40.0.0/16", part)
			}
			ranges = append(ranges, one)
		}
	}
	return ranges, nil
}

// names returns the names by which the service may be reached.
func (c Config) names() []string {
	names := []string{"localhost", "127.0.0.1", "::1"}
	for _, name := range c.Names {
		for part := range strings.SplitSeq(name, ",") { // the environment has one text
			if part = strings.TrimSpace(part); part != "" {
				names = append(names, part)
			}
		}
	}
	if host, _, err := net.SplitHostPort(c.Listen); err == nil && host != "" {
		if ip := net.ParseIP(host); ip == nil || !ip.IsUnspecified() {
			names = append(names, host)
		}
	}
	return names
}

func (c Config) validate() error {
	if _, _, err := net.SplitHostPort(c.Listen); err != nil {
		return fmt.Errorf("listen: %q is not an address; write it like 127.0.0.1:8470", c.Listen)
	}
	if _, err := c.zone(); err != nil {
		return err
	}
	if _, err := c.sourceRanges(); err != nil {
		return err
	}
	_, err := c.level()
	return err
}

func (c Config) zone() (*time.Location, error) {
	if c.TimeZone == "" || strings.EqualFold(c.TimeZone, "local") { // which would be the machine's, not the organisation's
		return nil, fmt.Errorf("time-zone: %q is not an IANA zone; write it like Europe/London", c.TimeZone)
	}
	zone, err := time.LoadLocation(c.TimeZone)
	if err != nil {
		return nil, fmt.Errorf("time-zone: %q is not an IANA zone; write it like Europe/London", c.TimeZone)
	}
	return zone, nil
}

func (c Config) level() (level slog.Level, err error) {
	if err := level.UnmarshalText([]byte(c.LogLevel)); err != nil {
		return level, fmt.Errorf("log-level: %q is none of debug, info, warn, error", c.LogLevel)
	}
	return level, nil
}
