package service

import (
	"bytes"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widelark/internal/testkit"
	"widelark/test/e2e/house"
)

// nobody returns an ordinary user: "nobody" if the tests run as root, and otherwise the user that runs them.
func nobody() *syscall.Credential {
	if os.Geteuid() != 0 {
		return nil
	}
	return &syscall.Credential{Uid: 65534, Gid: 65534}
}

// demoProcess is a running `widelarkd demo`.
type demoProcess struct {
	cmd   *exec.Cmd
	out   bytes.Buffer
	ended chan struct{}
}

func startDemo(t testing.TB, as *syscall.Credential, args ...string) *demoProcess {
	t.Helper()
	return startDemoUntil(t, "Ctrl-C ends", as, args...)
}

// startDemoUntil starts a demo and waits until it has said a text or has ended.
func startDemoUntil(t testing.TB, text string, as *syscall.Credential, args ...string) *demoProcess {
	t.Helper()
	d := &demoProcess{ended: make(chan struct{})}
	reader, writer, err := os.Pipe()
	require.NoError(t, err)
	d.cmd = exec.Command(testkit.Program(t, "widelarkd"), append([]string{"demo"}, args...)...)
	d.cmd.Dir = "/tmp"
	d.cmd.Stdout, d.cmd.Stderr = writer, writer
	d.cmd.SysProcAttr = &syscall.SysProcAttr{Credential: as}
	require.NoError(t, d.cmd.Start())
	require.NoError(t, writer.Close())
	up := make(chan struct{})
	go func() {
		buf := make([]byte, 4096)
		told := false
		for {
			n, err := reader.Read(buf)
			d.out.Write(buf[:n])
			if !told && strings.Contains(d.out.String(), text) {
				told = true
				close(up)
			}
			if err != nil {
				break
			}
		}
		_ = d.cmd.Wait()
		close(d.ended)
	}()
	t.Cleanup(func() {
		_ = d.cmd.Process.Kill()
		<-d.ended
	})
	select {
	case <-up:
	case <-d.ended:
	case <-time.After(3 * time.Minute):
		t.Fatal("the demo does not come up")
	}
	return d
}

// end sends a signal and waits.
func (d *demoProcess) end(signal os.Signal) int {
	_ = d.cmd.Process.Signal(signal)
	<-d.ended
	return d.cmd.ProcessState.ExitCode()
}

// postgres returns the process id of the database of a data folder; 0 if none runs.
func postgres(t testing.TB, dir string) int {
	t.Helper()
	text, err := os.ReadFile(filepath.Join(dir, "database", "pgdata", "postmaster.pid"))
	if err != nil {
		return 0
	}
	pid, err := strconv.Atoi(strings.SplitN(string(text), "\n", 2)[0])
	require.NoError(t, err)
	if syscall.Kill(pid, 0) != nil {
		return 0
	}
	return pid
}

func TestDemo(t *testing.T) {
	t.Parallel()
	as := nobody()
	dir := house.DataFolder(t, as)
	args := []string{"--listen", "127.0.0.1:0", "--proxy-listen", "127.0.0.1:0", "--dns-listen", "127.0.0.1:0", "--dns-https-listen", "127.0.0.1:0", "--icap-listen", "127.0.0.1:0", "--data", dir}
	d := startDemo(t, as, args...)
	require.Contains(t, d.out.String(), "sign in as edda with the password quillmere-demo", d.out.String())
	assert.Contains(t, d.out.String(), "Suspect sites                 100000 entries from 100000 lines (0 refused)")
	lark := func(args ...string) string {
		cmd := exec.Command(testkit.Program(t, "widelark"), args...)
		cmd.Env = append(os.Environ(), "WIDELARK_CONFIG="+filepath.Join(dir, "client.yaml"))
		out, err := cmd.CombinedOutput()
		assert.NoError(t, err, string(out))
		return string(out)
	}
	assert.Contains(t, lark("try", "oddsfield.example"), "■ block")
	assert.Contains(t, lark("list", "ls"), "Formulary and dosage sites")
	lark("list", "add", "Betting", "kept.example")
	require.NotZero(t, postgres(t, dir))

	second := startDemo(t, as, args...)
	assert.Equal(t, 3, second.cmd.ProcessState.ExitCode())
	assert.Contains(t, second.out.String(), "already runs on")
	assert.Equal(t, 0, d.end(syscall.SIGINT), d.out.String())
	assert.Zero(t, postgres(t, dir), "the database has ended too")

	// What was kept is there again, and nothing is loaded twice.
	d = startDemo(t, as, args...)
	assert.NotContains(t, d.out.String(), "entries from")
	assert.Contains(t, lark("list", "show", "Betting", "--contains", "kept"), "kept.example")
	pid := postgres(t, dir)
	d.end(syscall.SIGKILL)
	require.Eventually(t, func() bool { return syscall.Kill(pid, 0) != nil }, 10*time.Second, 20*time.Millisecond,
		"a killed demo takes its database along")
	d = startDemo(t, as, args...)
	assert.Contains(t, lark("list", "show", "Betting", "--contains", "kept"), "kept.example")

	// Whatever somebody renames or removes in it, it comes up again, and leaves that so.
	cmd := exec.Command(testkit.Program(t, "widelark"), "account", "add", "rowan", "--role", "owner", "--password-stdin")
	cmd.Env, cmd.Stdin = append(os.Environ(), "WIDELARK_CONFIG="+filepath.Join(dir, "client.yaml")), strings.NewReader("quite-another-word")
	made, err := cmd.CombinedOutput()
	require.NoError(t, err, string(made))
	lark("list", "edit", "Betting", "--name", "Wagers")
	lark("list", "edit", "Partner's warnings", "--name", "Their warnings")
	for _, rule := range regexp.MustCompile(`(?m)^ *\d+ +(\S.*?)  `).FindAllStringSubmatch(lark("policy", "show", "Fallback"), -1) {
		lark("policy", "rule", "remove", "Fallback", rule[1])
	}
	lark("pack", "remove", "Estuary additions", "--yes")
	lark("schedule", "edit", "Night shift", "--name", "At night")
	lark("account", "remove", "edda")
	assert.Equal(t, 0, d.end(syscall.SIGTERM))
	d = startDemo(t, as, args...)
	lists := lark("list", "ls")
	assert.Contains(t, lists, "Wagers")
	assert.NotContains(t, lists, "Betting")
	assert.Contains(t, lark("whoami"), "rowan")
	assert.Equal(t, 0, d.end(syscall.SIGTERM))
}

// A demo that is interrupted while it loads, also as the system's administrator, as whom no database runs, ends its database and has ended well.
func TestDemoInterrupted(t *testing.T) {
	t.Parallel()
	dir := house.DataFolder(t, nil)
	d := startDemoUntil(t, "entries from", nil, "--listen", "127.0.0.1:0", "--proxy-listen", "127.0.0.1:0", "--dns-listen", "127.0.0.1:0", "--dns-https-listen", "127.0.0.1:0", "--icap-listen", "127.0.0.1:0", "--data", dir)
	pid := postgres(t, dir)
	require.NotZero(t, pid, d.out.String())
	assert.Equal(t, 0, d.end(syscall.SIGINT))
	assert.Contains(t, d.out.String(), "the next start loads the rest of the demo data")
	assert.NotContains(t, d.out.String(), "widelarkd:")
	assert.Zero(t, postgres(t, dir), "the database has ended too")
}

// Every obstacle to starting the demo is reported in a sentence that names it and says what to do.
func TestDemoSaysWhatIsInTheWay(t *testing.T) {
	t.Parallel()
	as := nobody()
	taken, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer taken.Close()
	dir := house.DataFolder(t, as)
	broken := house.DataFolder(t, nil)
	require.NoError(t, os.MkdirAll(filepath.Join(broken, "database", "pgdata"), 0o700))
	if as != nil {
		for _, at := range []string{broken, filepath.Join(broken, "database"), filepath.Join(broken, "database", "pgdata")} {
			require.NoError(t, os.Chown(at, 65534, 65534))
		}
	}
	for _, row := range []struct {
		args []string
		says string
	}{
		{[]string{"--listen", taken.Addr().String()}, taken.Addr().String() + " is in use by another program: stop that, or choose another address with --listen"},
		{[]string{"--listen", "nowhere"}, `listen: "nowhere" is not an address`},
		{[]string{"--listen", "127.0.0.1:0", "--proxy-listen", "127.0.0.1:0", "--dns-listen", "127.0.0.1:0", "--dns-https-listen", "127.0.0.1:0", "--icap-listen", "127.0.0.1:0", "--data", "/proc/widelark"}, "the data folder cannot be made"},
		{[]string{"--listen", "127.0.0.1:0", "--proxy-listen", "127.0.0.1:0", "--dns-listen", "127.0.0.1:0", "--dns-https-listen", "127.0.0.1:0", "--icap-listen", "127.0.0.1:0", "--data", broken}, "the database server ended as soon as it was started; see " + broken},
		{[]string{"--listen", "127.0.0.1:0", "--proxy-listen", "127.0.0.1:0", "--dns-listen", "127.0.0.1:0", "--dns-https-listen", "127.0.0.1:0", "--icap-listen", "127.0.0.1:0", "--time-zone", "Quillmere", "--data", dir}, `"Quillmere" is not an IANA zone`},
	} {
		d := startDemo(t, as, row.args...)
		assert.Equal(t, 3, d.cmd.ProcessState.ExitCode(), row.args)
		assert.Contains(t, d.out.String(), row.says, row.args)
		assert.NotContains(t, d.out.String(), "goroutine")
	}
	if as == nil {
		return
	}
	private := filepath.Join(house.DataFolder(t, nil), "private")
	require.NoError(t, os.Mkdir(private, 0o700))
	d := startDemo(t, nil, "--listen", "127.0.0.1:0", "--proxy-listen", "127.0.0.1:0", "--dns-listen", "127.0.0.1:0", "--dns-https-listen", "127.0.0.1:0", "--icap-listen", "127.0.0.1:0", "--data", filepath.Join(private, "data"))
	assert.Contains(t, d.out.String(), fmt.Sprintf("the database runs as the user postgres, who cannot enter %s: give a data folder elsewhere with --data", private))
	d = startDemo(t, as, "--listen", "127.0.0.1:0", "--proxy-listen", "127.0.0.1:0", "--dns-listen", "127.0.0.1:0", "--dns-https-listen", "127.0.0.1:0", "--icap-listen", "127.0.0.1:0", "--data", filepath.Join(private, "data"))
	assert.Contains(t, d.out.String(), "the data folder cannot be made")
}

func TestServeSaysWhatIsInTheWay(t *testing.T) {
	t.Parallel()
	s := house.Server.Serve(t)
	for args, says := range map[string]string{
		"serve --listen 127.0.0.1:0":                                           "which database? Give --database-url",
		"serve --listen 127.0.0.1:0 --database-url postgres://127.0.0.1:1/x":   "the database at 127.0.0.1:1 does not answer",
		"serve --config /nowhere.yaml":                                         "there is no settings file /nowhere.yaml",
		"serve --frob":                                                         "unknown flag: --frob",
		"serve --listen " + strings.TrimPrefix(s.URL, "http://"):               "is in use by another program",
		"account add edda --password-stdin --database-url " + s.Database:       `there is an account "edda" already`,
		"account add rowan --password-stdin --database-url " + s.Database + "": "can sign in now",
	} {
		cmd := exec.Command(testkit.Program(t, "widelarkd"), strings.Fields(args)...)
		cmd.Stdin = strings.NewReader("a-long-password\n")
		out, _ := cmd.CombinedOutput()
		assert.Contains(t, string(out), says, args)
	}
	require.NoError(t, s.Stop(), "a service that is asked to end does so in order")
}
