// Package cluster runs a PostgreSQL server of our own: Debian's programs, our own data folder, loopback only.
//
// From: a folder.
// To: a database URL.
//
// PostgreSQL refuses to run as root, so when the caller is root it runs as the user "postgres" that Debian's package
// makes; otherwise as the caller. Any cluster that the package may have made or started is left alone.
package cluster

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/jackc/pgx/v5"
)

// Config says where the cluster lives. Both fields may be left at their defaults.
type Config struct {
	// Dir is the data folder. It is made where it is missing; its parents must be open to the server's user.
	Dir string

	// Disposable trades the safety of the data for speed: a crash of the machine may lose everything. For tests.
	// Defaults to false.
	Disposable bool
}

// Cluster is a running server. Stop it before the program ends; where the program dies first, the server shuts down
// by itself. Its methods are safe for concurrent use.
type Cluster struct {
	port     int
	password string
	done     chan struct{} // closed when the server has ended
	cmd      *exec.Cmd
	log      string
}

// Programs returns the folder of the newest PostgreSQL server programs that Debian's packages have installed.
func Programs() (string, error) {
	found, _ := filepath.Glob("/usr/lib/postgresql/*/bin/postgres")
	version := func(path string) int {
		n, _ := strconv.Atoi(filepath.Base(filepath.Dir(filepath.Dir(path))))
		return n
	}
	if len(found) == 0 {
		return "", errors.New("PostgreSQL is not installed (nothing at /usr/lib/postgresql/*/bin/postgres): run `make deps`")
	}
	return filepath.Dir(slices.MaxFunc(found, func(a, b string) int { return version(a) - version(b) })), nil
}

// Start makes the cluster where there is none and starts it on a free port. It returns when the server answers, or
// with an error that says what is wrong and what to do.
func Start(ctx context.Context, config Config) (*Cluster, error) {
	programs, err := Programs()
	if err != nil {
		return nil, err
	}
	account, err := serverAccount()
	if err != nil {
		return nil, err
	}
	dir, err := filepath.Abs(config.Dir)
	if err != nil {
		return nil, err
	}
	if err := prepareDir(dir, account); err != nil {
		return nil, err
	}
	data := filepath.Join(dir, "pgdata")
	password, fresh, err := keptPassword(dir)
	if err != nil {
		return nil, err
	}
	_, err = os.Stat(data)
	older := err == nil && fresh // made before there was a password
	if errors.Is(err, os.ErrNotExist) {
		if err := initialise(ctx, programs, dir, data, account, password, config.Disposable); err != nil {
			return nil, err
		}
	}
	if err := refuseSecond(data); err != nil {
		return nil, err
	}
	var last error
	for range 5 { // another program may take the port between the moment it is found free and the server's start
		c, err := launch(ctx, programs, dir, data, account, password, config.Disposable)
		if err == nil && older {
			if err = c.close(ctx, data); err != nil {
				err = errors.Join(fmt.Errorf("the database could not be given a password: %w", err), os.Remove(filepath.Join(dir, passwordFile)), c.Stop())
			}
		}
		if err == nil {
			return c, nil
		}
		if last = err; !errors.Is(err, errPortTaken) {
			break
		}
	}
	return nil, last
}

// URL returns the address of a database of the cluster.
func (c *Cluster) URL(database string) string {
	return fmt.Sprintf("postgres://widelark:%s@127.0.0.1:%d/%s?sslmode=disable", c.password, c.port, database)
}

// Done is closed when the server has ended, asked to or not.
func (c *Cluster) Done() <-chan struct{} { return c.done }

// Kill ends the server at once, as a crash would. For tests.
func (c *Cluster) Kill() {
	_ = c.cmd.Process.Signal(syscall.SIGQUIT)
	<-c.done
}

// Stop ends the server in order and waits for it: clients are cut off, nothing committed is lost.
func (c *Cluster) Stop() error {
	_ = c.cmd.Process.Signal(syscall.SIGINT) // fast shutdown; SIGTERM would wait for every client
	select {
	case <-c.done:
		return nil
	case <-time.After(30 * time.Second):
		_ = c.cmd.Process.Kill()
		<-c.done
		return fmt.Errorf("the database server did not stop within 30 s and was killed; see %s", c.log)
	}
}

// serverAccount returns the user that the server runs as: nil for the caller.
func serverAccount() (*syscall.Credential, error) {
	if os.Geteuid() != 0 {
		return nil, nil
	}
	account, err := user.Lookup("postgres")
	if err != nil {
		return nil, errors.New("PostgreSQL does not run as root, and the user postgres is missing: run `make deps`, or start as an ordinary user")
	}
	uid, _ := strconv.ParseUint(account.Uid, 10, 32)
	gid, _ := strconv.ParseUint(account.Gid, 10, 32)
	return &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}, nil
}

func prepareDir(dir string, account *syscall.Credential) error {
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return fmt.Errorf("the data folder cannot be made: %w; give another with --data", err)
	}
	if account == nil {
		probe, err := os.CreateTemp(dir, ".writable-")
		if err != nil {
			return fmt.Errorf("the data folder %s is not writable: give another with --data", dir)
		}
		_ = probe.Close()
		return os.Remove(probe.Name())
	}
	if closed := ClosedParent(dir, account.Uid, account.Gid); closed != "" {
		return fmt.Errorf("the database runs as the user postgres, who cannot enter %s: give a data folder elsewhere with --data", closed)
	}
	if err := os.Chown(dir, int(account.Uid), int(account.Gid)); err != nil {
		return fmt.Errorf("the data folder %s cannot be given to the user postgres: %w", dir, err)
	}
	return nil
}

// ClosedParent returns the first folder on the way to dir that a user may not enter, "" where all are open.
func ClosedParent(dir string, uid, gid uint32) string {
	for parent := filepath.Dir(dir); ; parent = filepath.Dir(parent) {
		if info, err := os.Stat(parent); err == nil {
			stat := info.Sys().(*syscall.Stat_t)
			bits := info.Mode().Perm()
			open := stat.Uid == uid && bits&0o100 != 0 || stat.Gid == gid && bits&0o010 != 0 || bits&0o001 != 0
			if !open {
				return parent
			}
		}
		if parent == "/" {
			return ""
		}
	}
}

// command prepares one of PostgreSQL's programs: an environment of its own, the server's user, and a process group
// of its own, so that Ctrl-C in a terminal reaches only us.
func command(ctx context.Context, account *syscall.Credential, dir, program string, args ...string) *exec.Cmd {
	cmd := exec.CommandContext(ctx, program, args...)
	cmd.Dir = dir
	cmd.Env = []string{"PATH=/usr/bin:/bin", "LC_ALL=C.UTF-8", "TZ=UTC"}
	cmd.SysProcAttr = &syscall.SysProcAttr{Credential: account, Setpgid: true}
	return cmd
}

// passwordFile is the file in the data folder with the password of the database's one role, which only the caller can read.
const passwordFile = "password"

// keptPassword returns the password of the database, and whether it was made now.
func keptPassword(dir string) (password string, fresh bool, err error) {
	path := filepath.Join(dir, passwordFile)
	text, err := os.ReadFile(path)
	if err == nil {
		return strings.TrimSpace(string(text)), false, nil
	}
	if !errors.Is(err, os.ErrNotExist) {
		return "", false, fmt.Errorf("the database's password cannot be read: %w", err)
	}
	password = rand.Text()
	if err := os.WriteFile(path, []byte(password+"\n"), 0o600); err != nil {
		return "", false, fmt.Errorf("the data folder %s is not writable: %w", dir, err)
	}
	return password, true, nil
}

// close gives a database that let everybody on this machine in the password, and has it asked for from now on.
func (c *Cluster) close(ctx context.Context, data string) error {
	conn, err := pgx.Connect(ctx, c.URL("postgres")) // the password is not looked at yet
	if err != nil {
		return err
	}
	defer conn.Close(ctx)
	if _, err := conn.Exec(ctx, "alter role widelark password '"+c.password+"'"); err != nil { // letters and digits
		return err
	}
	path := filepath.Join(data, "pg_hba.conf")
	rules, err := os.ReadFile(path)
	if err != nil {
		return err
	}
	if err := os.WriteFile(path, []byte(strings.ReplaceAll(string(rules), "trust", "scram-sha-256")), 0o600); err != nil {
		return err
	}
	_, err = conn.Exec(ctx, "select pg_reload_conf()")
	return err
}

// initialise makes the cluster beside its place and renames it when done, so that a half-made one never counts.
func initialise(ctx context.Context, programs, dir, data string, account *syscall.Credential, password string, disposable bool) error {
	half := data + ".new"
	if err := os.RemoveAll(half); err != nil {
		return err
	}
	passwordFile := filepath.Join(dir, "password.new") // for initdb, which runs as the server's user
	defer func() { _ = os.Remove(passwordFile) }()
	if err := os.WriteFile(passwordFile, []byte(password+"\n"), 0o600); err != nil {
		return err
	}
	if account != nil {
		if err := os.Chown(passwordFile, int(account.Uid), int(account.Gid)); err != nil {
			return err
		}
	}
	args := []string{"-D", half, "-U", "widelark", "-A", "scram-sha-256", "--pwfile", passwordFile, "-E", "UTF8", "--locale=C.UTF-8", "--no-instructions"}
	if disposable {
		args = append(args, "--no-sync")
	}
	if out, err := command(ctx, account, dir, filepath.Join(programs, "initdb"), args...).CombinedOutput(); err != nil {
		return fmt.Errorf("the database cluster could not be made in %s: %w\n%s", dir, err, strings.TrimSpace(string(out)))
	}
	return os.Rename(half, data)
}

// refuseSecond reports a server that already runs on the folder.
func refuseSecond(data string) error {
	text, err := os.ReadFile(filepath.Join(data, "postmaster.pid"))
	if err != nil {
		return nil
	}
	first, _, _ := strings.Cut(string(text), "\n")
	pid, err := strconv.Atoi(strings.TrimSpace(first))
	if err != nil {
		return nil
	}
	name, err := os.ReadFile(fmt.Sprintf("/proc/%d/comm", pid))
	if err == nil && strings.TrimSpace(string(name)) == "postgres" {
		return fmt.Errorf("a database server (process %d) already runs on %s: is a demo running in another terminal? Stop it there with Ctrl-C", pid, data)
	}
	return nil
}

var errPortTaken = errors.New("the port was taken by another program")

func launch(ctx context.Context, programs, dir, data string, account *syscall.Credential, password string, disposable bool) (*Cluster, error) {
	port, err := freePort()
	if err != nil {
		return nil, err
	}
	c := &Cluster{port: port, password: password, done: make(chan struct{}), log: filepath.Join(dir, "postgres.log")}
	args := []string{
		"-D", data, "-p", strconv.Itoa(port),
		"-c", "listen_addresses=127.0.0.1", "-c", "unix_socket_directories=",
		"-c", "shared_buffers=256MB", "-c", "max_wal_size=2GB", "-c", "wal_level=minimal", "-c", "max_wal_senders=0", "-c", "timezone=UTC", "-c", "jit=off",
	}
	if disposable {
		args = append(args, "-c", "fsync=off", "-c", "synchronous_commit=off", "-c", "full_page_writes=off")
	}
	log, err := os.OpenFile(c.log, os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o640)
	if err != nil {
		return nil, fmt.Errorf("the data folder %s is not writable: %w", dir, err)
	}
	defer log.Close()
	begin, _ := log.Seek(0, 2)
	// The server outlives ctx: it is stopped in order, by Stop.
	c.cmd = command(context.WithoutCancel(ctx), account, dir, filepath.Join(programs, "postgres"), args...)
	c.cmd.Stdout, c.cmd.Stderr = log, log
	c.cmd.SysProcAttr.Pdeathsig = syscall.SIGINT
	started := make(chan error)
	go func() {
		// The death signal belongs to the thread that forked, so that thread has to live as long as the server.
		runtime.LockOSThread()
		err := c.cmd.Start()
		started <- err
		if err == nil {
			_ = c.cmd.Wait()
			close(c.done)
		}
	}()
	if err := <-started; err != nil {
		return nil, fmt.Errorf("the database server could not be started: %w", err)
	}
	if err := c.await(ctx); err != nil {
		select {
		case <-c.done:
		default:
			_ = c.Stop()
		}
		written, _ := os.ReadFile(c.log)
		said := string(written[min(int(begin), len(written)):])
		if strings.Contains(said, "Address already in use") {
			return nil, errPortTaken
		}
		return nil, fmt.Errorf("%w; see %s, which ends:\n%s", err, c.log, lastLines(said, 5))
	}
	return c, nil
}

func freePort() (int, error) {
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return 0, fmt.Errorf("no free port on loopback: %w", err)
	}
	defer listener.Close()
	return listener.Addr().(*net.TCPAddr).Port, nil
}

// await returns when the server answers, or has ended, or half a minute is over.
func (c *Cluster) await(ctx context.Context) error {
	ctx, cancel := context.WithTimeout(ctx, 30*time.Second)
	defer cancel()
	for {
		conn, err := pgx.Connect(ctx, c.URL("postgres"))
		if err == nil {
			return conn.Close(ctx)
		}
		select {
		case <-c.done:
			return errors.New("the database server ended as soon as it was started")
		case <-ctx.Done():
			return errors.New("the database server does not answer")
		case <-time.After(20 * time.Millisecond):
		}
	}
}

func lastLines(text string, n int) string {
	lines := strings.Split(strings.TrimSpace(text), "\n")
	return strings.Join(lines[max(0, len(lines)-n):], "\n")
}

// EnsureDatabase makes a database of the cluster where it is missing.
func (c *Cluster) EnsureDatabase(ctx context.Context, name string) error {
	conn, err := pgx.Connect(ctx, c.URL("postgres"))
	if err != nil {
		return err
	}
	defer conn.Close(ctx)
	var exists bool
	if err := conn.QueryRow(ctx, "select exists (select from pg_database where datname = $1)", name).Scan(&exists); err != nil || exists {
		return err
	}
	_, err = conn.Exec(ctx, "create database "+pgx.Identifier{name}.Sanitize())
	return err
}
