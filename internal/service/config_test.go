package service

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/spf13/pflag"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func load(t *testing.T, file string, env map[string]string, args ...string) (Config, error) {
	t.Helper()
	set := pflag.NewFlagSet("test", pflag.ContinueOnError)
	flags(set)
	set.String("database-url", "", "")
	if file != "" {
		path := filepath.Join(t.TempDir(), "widelarkd.yaml")
		require.NoError(t, os.WriteFile(path, []byte(file), 0o600))
		args = append(args, "--config", path)
	}
	for name, value := range env {
		t.Setenv(name, value)
	}
	require.NoError(t, set.Parse(args))
	return LoadConfig(set)
}

func TestLoadConfig(t *testing.T) {
	config, err := load(t, "", nil)
	require.NoError(t, err)
	assert.Equal(t, Config{Listen: "127.0.0.1:8470", TimeZone: "UTC", LogLevel: "info", Names: []string{}, SourceRanges: []string{}, Gates: []string{}, Organisation: "Your organisation", ProxyListen: "127.0.0.1:8471", ProxyBehind: []string{}, ProxyPersonFrom: []string{}, ProxyPersonHeader: "X-Authenticated-User", ProxyFormKB: 8, ProxyReach: []string{}, DNSListen: "127.0.0.1:8472", DNSForward: []string{}, DNSSubnetFrom: []string{}, DNSLongest: time.Minute, DNSRefused: 10 * time.Second, DNSRate: 2000, DNSPageAddress: []string{}, DNSZones: []string{}, DNSZoneErrs: "open", DNSZoneTo: []string{}, DNSZoneNotify: []string{}, ICAPListen: "127.0.0.1:8474", ICAPFrom: []string{}, ProviderName: "your organisation", ProviderScopes: []string{"profile", "email"}, ProviderGroupsClaim: "groups", KeepDays: 90, KeepGroupDays: 400, JournalMemory: 1024}, config, "the defaults")

	file := "listen: 127.0.0.1:1\ntime-zone: Europe/London\nlog-level: warn\ndatabase-url: postgres://file/x\n"
	env := map[string]string{"WIDELARKD_LISTEN": "127.0.0.1:2", "WIDELARKD_TIME_ZONE": "Europe/Paris", "WIDELARKD_SECURE_COOKIES": "true"}
	config, err = load(t, file, env, "--listen", "127.0.0.1:3")
	require.NoError(t, err)
	assert.Equal(t, Config{
		Listen: "127.0.0.1:3", TimeZone: "Europe/Paris", LogLevel: "warn", DatabaseURL: "postgres://file/x", SecureCookies: true, Names: []string{}, SourceRanges: []string{},
		Gates: []string{}, Organisation: "Your organisation", ProxyListen: "127.0.0.1:8471", ProxyBehind: []string{}, ProxyPersonFrom: []string{}, ProxyPersonHeader: "X-Authenticated-User", ProxyFormKB: 8, ProxyReach: []string{}, DNSListen: "127.0.0.1:8472", DNSForward: []string{}, DNSSubnetFrom: []string{}, DNSLongest: time.Minute, DNSRefused: 10 * time.Second, DNSRate: 2000, DNSPageAddress: []string{}, DNSZones: []string{}, DNSZoneErrs: "open", DNSZoneTo: []string{}, DNSZoneNotify: []string{}, ICAPListen: "127.0.0.1:8474", ICAPFrom: []string{}, ProviderName: "your organisation", ProviderScopes: []string{"profile", "email"}, ProviderGroupsClaim: "groups", KeepDays: 90, KeepGroupDays: 400, JournalMemory: 1024,
	}, config, "flags before environment before file")
}

func TestLoadConfigRefuses(t *testing.T) {
	for file, says := range map[string]string{
		"listen: here":        `listen: "here" is not an address; write it like 127.0.0.1:8470`,
		"time-zone: Local":    `time-zone: "Local" is not an IANA zone`,
		"time-zone: Nowhere":  `time-zone: "Nowhere" is not an IANA zone`,
		"log-level: loud":     `log-level: "loud" is none of debug, info, warn, error`,
		"lisen: 127.0.0.1:1":  `has "lisen", which is not a setting`,
		"listen: [127, 0, 0]": `'listen' expected type 'string'`,
		"listen: {":           "cannot be read",
	} {
		_, err := load(t, file, nil)
		assert.ErrorContains(t, err, says, file)
	}
}
