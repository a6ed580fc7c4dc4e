package testkit

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"widelark/client"
)

// The account in the services of tests.
const (
	Name     = "edda"
	Password = "a-password-for-tests"
)

// built is the folder of the built programs, which [RunWithServer] removes; "" if no test needed one.
var built string

var build = sync.OnceValues(func() (string, error) {
	if dir := os.Getenv(sharedPrograms); dir != "" {
		return dir, nil
	}
	dir, err := os.MkdirTemp("", "widelark-bin-")
	if err == nil {
		built = dir
		err = os.Chmod(dir, 0o755) // other users run them too
	}
	if err == nil {
		err = buildInto(dir)
	}
	return dir, err
})

// buildInto builds the programs into a folder.
func buildInto(dir string) error {
	root, err := Root()
	if err != nil {
		return err
	}
	cmd := exec.Command("go", "build", "-o", dir+"/", "./cmd/...")
	cmd.Dir = root
	if out, err := cmd.CombinedOutput(); err != nil {
		return errors.New(string(out))
	}
	return nil
}

// Root returns the folder of the module that holds the working directory.
func Root() (string, error) {
	dir, err := os.Getwd()
	for err == nil {
		if _, err := os.Stat(filepath.Join(dir, "go.mod")); err == nil {
			return dir, nil
		}
		if dir == filepath.Dir(dir) {
			return "", errors.New("the test does not run in the module's folder")
		}
		dir = filepath.Dir(dir)
	}
	return "", err
}

// Program returns the path of a built program.
func Program(t testing.TB, name string) string {
	t.Helper()
	dir, err := build()
	require.NoError(t, err)
	return filepath.Join(dir, name)
}

// Service is a running `widelarkd serve`.
type Service struct {
	URL      string
	Database string
	Config   string   // the file in which the command line stores its sign-in
	Zone     string   // the organisation's time zone, "" for Europe/London; used when the service starts
	Args     []string // further arguments of the service; used when it starts
	Proxy    string   // the address of its proxy gate; "" where it has none
	Secure   string   // the address of its proxy gate over TLS; "" where it has none
	DNS      string   // the address of its DNS gate, over UDP and TCP; "" where it has none
	HTTPS    string   // the URL of its DNS gate over HTTPS; "" where it has none
	Page     string   // the URL of the page of its DNS gate; "" where it has none
	PageTLS  string   // the address of that over TLS; "" where it has none
	ICAP     string   // the address of its ICAP gate; "" where it has none
	Folder   string   // where it is a gate for a service elsewhere, what it keeps its things in
	process  *exec.Cmd
	output   *lockedBuffer
	ended    chan struct{}
}

// lockedBuffer is written by a process and read by a test.
type lockedBuffer struct {
	mu sync.Mutex
	b  bytes.Buffer // guarded by mu
}

func (l *lockedBuffer) Write(p []byte) (int, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.b.Write(p)
}

func (l *lockedBuffer) String() string {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.b.String()
}

// Serve starts the service on a new database in which [Name] has an account, and signs the command line in.
func (s *Server) Serve(t testing.TB) *Service {
	t.Helper()
	return s.serve(t, s.create(t, s.let(t)))
}

// ServeOn is [Server.Serve] on a database of the caller's without accounts.
func (s *Server) ServeOn(t testing.TB, database string) *Service {
	t.Helper()
	add := exec.Command(Program(t, "widelarkd"), "account", "add", Name, "--full-name", "Edda Marsh", "--password-stdin", "--database-url", database)
	add.Stdin = strings.NewReader(Password)
	out, err := add.CombinedOutput()
	require.NoError(t, err, string(out))
	return s.serve(t, database)
}

func (s *Server) serve(t testing.TB, database string) *Service {
	t.Helper()
	service := &Service{Database: database, Config: filepath.Join(t.TempDir(), "client.yaml")}
	service.Start(t)
	t.Cleanup(service.Kill)
	service.Run(t, Password, "login", "--name", Name, "--password-stdin", "--server", service.URL).Done(t)
	return service
}

var (
	atGate   = regexp.MustCompile(`proxy gate is at (\S+)`)
	atSecure = regexp.MustCompile(`and over TLS at (\S+)`)
)

var serving = regexp.MustCompile(`serves on (http://\S+)`)

// Start runs the program and waits until it answers. A service that was killed can be started again, on the same address.
func (s *Service) Start(t testing.TB) {
	t.Helper()
	listen := "127.0.0.1:0"
	if s.URL != "" {
		listen = strings.TrimPrefix(s.URL, "http://")
	}
	s.output, s.ended = &lockedBuffer{}, make(chan struct{})
	args := []string{"serve", "--listen", listen, "--database-url", s.Database, "--time-zone", cmp.Or(s.Zone, "Europe/London"), "--source-ranges", "127.0.0.0/8"}
	if s.Folder != "" {
		args = []string{"gate", "--folder", s.Folder, "--proxy-listen", cmp.Or(s.Proxy, "127.0.0.1:0")}
	}
	s.process = exec.Command(Program(t, "widelarkd"), append(args, s.Args...)...)
	s.process.Stdout, s.process.Stderr = s.output, s.output
	require.NoError(t, s.process.Start())
	go func() {
		_ = s.process.Wait()
		close(s.ended)
	}()
	require.Eventually(t, func() bool {
		if s.Folder == "" {
			found := serving.FindStringSubmatch(s.output.String())
			if found == nil {
				return false
			}
			s.URL = found[1]
			if !slices.Contains(s.Args, "--gates") {
				return true
			}
		}
		for _, told := range s.places() {
			if found := told.says.FindStringSubmatch(s.output.String()); found != nil {
				*told.at = found[1]
			} else if told.wanted {
				return false
			}
		}
		return true
	}, 30*time.Second, 10*time.Millisecond, "the service does not come up: %s", s.output)
}

// place is where a gate says that it is.
type place struct {
	at     *string
	says   *regexp.Regexp
	wanted bool
}

var (
	atNames, atHTTPS  = regexp.MustCompile(`The DNS gate is at (\S+)`), regexp.MustCompile(`The DNS gate is over HTTPS at (\S+)`)
	atPage, atPageTLS = regexp.MustCompile(`The DNS gate's page is at (\S+)`), regexp.MustCompile(`The DNS gate's page is over TLS at (\S+)`)
)

var atICAP = regexp.MustCompile(`The ICAP gate is at icap://([^/]+)/`)

// places are where the gates are that the arguments ask for.
func (s *Service) places() []place {
	asks := func(flag string) bool { return slices.Contains(s.Args, flag) }
	names, asked := asks("--dns-forward"), asks("--icap-listen")
	return []place{
		{&s.Proxy, atGate, !names && !asked || slices.Contains(s.Args, "proxy,dns") || slices.Contains(s.Args, "proxy,icap")},
		{&s.Secure, atSecure, asks("--proxy-tls-listen")},
		{&s.DNS, atNames, names},
		{&s.HTTPS, atHTTPS, asks("--dns-https-listen")},
		{&s.Page, atPage, asks("--dns-page-listen")},
		{&s.PageTLS, atPageTLS, asks("--dns-page-tls-listen")},
		{&s.ICAP, atICAP, asked},
	}
}

// Kill ends the service at once, as a crash would, and waits for its end.
func (s *Service) Kill() {
	_ = s.process.Process.Kill()
	<-s.ended
}

// PeakMemory returns the peak resident memory of the service, in bytes (proc(5), VmHWM).
func (s *Service) PeakMemory(t testing.TB) int64 {
	t.Helper()
	status, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", s.process.Process.Pid))
	require.NoError(t, err)
	peak := regexp.MustCompile(`VmHWM:\s+(\d+) kB`).FindSubmatch(status)
	require.NotNil(t, peak)
	kB, err := strconv.ParseInt(string(peak[1]), 10, 64)
	require.NoError(t, err)
	return kB << 10
}

// Stop asks the service to end and waits for it.
func (s *Service) Stop() error {
	if err := s.process.Process.Signal(syscall.SIGTERM); err != nil {
		return err
	}
	<-s.ended
	if !s.process.ProcessState.Success() {
		return errors.New(s.output.String())
	}
	return nil
}

// Said returns what the program has printed so far.
func (s *Service) Said() string { return s.output.String() }

// Ran is the result of a command.
type Ran struct {
	Out, Err string
	Code     int
	args     []string
}

// Run runs a command, signed in, with a text as its standard input.
func (s *Service) Run(t testing.TB, input string, args ...string) Ran {
	t.Helper()
	cmd := exec.Command(Program(t, "widelark"), args...)
	cmd.Env = append(os.Environ(), "WIDELARK_CONFIG="+s.Config)
	cmd.Stdin = strings.NewReader(input)
	var out, errs bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &errs
	err := cmd.Run()
	var exit *exec.ExitError
	if err != nil && !errors.As(err, &exit) {
		require.NoError(t, err)
	}
	return Ran{out.String(), errs.String(), cmd.ProcessState.ExitCode(), args}
}

// Done fails the test unless the command ended with exit code 0, and returns its output.
func (r Ran) Done(t testing.TB) string {
	t.Helper()
	require.Equal(t, 0, r.Code, "widelark %s\n%s%s", strings.Join(r.args, " "), r.Out, r.Err)
	return r.Out
}

// API returns a client that is signed in.
func (s *Service) API(t testing.TB) *client.ClientWithResponses {
	t.Helper()
	api, err := client.New(s.URL, s.Token(t))
	require.NoError(t, err)
	return api
}

// Token returns the token that the command line is signed in with.
func (s *Service) Token(t testing.TB) string {
	t.Helper()
	text, err := os.ReadFile(s.Config)
	require.NoError(t, err)
	token := regexp.MustCompile(`token: (\S+)`).FindSubmatch(text)
	require.NotNil(t, token)
	return string(token[1])
}

// Request sends a bare HTTP request, without a sign-in unless header brings one.
func (s *Service) Request(t testing.TB, method, path, body string, header map[string]string) *http.Response {
	t.Helper()
	req, err := http.NewRequestWithContext(context.Background(), method, s.URL+path, strings.NewReader(body))
	require.NoError(t, err)
	for name, value := range header {
		req.Header.Set(name, value)
	}
	res, err := http.DefaultClient.Do(req)
	require.NoError(t, err)
	t.Cleanup(func() { _ = res.Body.Close() })
	return res
}

// The time to wait for background work, generous for slow machines, and the interval between two checks.
const (
	Patience = 90 * time.Second
	Look     = 100 * time.Millisecond
)
