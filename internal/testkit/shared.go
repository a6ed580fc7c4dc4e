package testkit

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"
)

// The environment variables by which [Share] passes the shared parts to the processes of tests. If one is not set, a process starts its own part.
const (
	sharedDatabase = "WIDELARK_TEST_DATABASE" // the address of a database, with %s for its name
	sharedPrograms = "WIDELARK_TEST_PROGRAMS" // the folder of the built programs
	SharedBrowser  = "WIDELARK_TEST_BROWSER"  // the address of the browser's DevTools protocol
)

// chromium is the program of the browser that tests drive.
const chromium = "/usr/bin/chromium-headless-shell"

// Share starts the parts that the tests of all packages can share: a PostgreSQL server with a migrated template, the built programs, a Chromium. It
// returns the environment variables for them, and a function that stops all parts.
func Share(ctx context.Context) (variables []string, stop func(), err error) {
	var stops []func()
	stop = func() {
		for i := len(stops) - 1; i >= 0; i-- {
			stops[i]()
		}
	}
	defer func() {
		if err != nil {
			stop()
		}
	}()
	dir, err := os.MkdirTemp(inMemory(), "widelark-test-")
	if err != nil {
		return nil, stop, err
	}
	stops = append(stops, func() { _ = os.RemoveAll(dir) })
	if err := os.Chmod(dir, 0o755); err != nil { // the user that runs the server needs access
		return nil, stop, err
	}
	programs := filepath.Join(dir, "bin")
	if err := buildInto(programs); err != nil {
		return nil, stop, err
	}
	db, err := startDatabase(ctx, filepath.Join(dir, "database"))
	if err != nil {
		return nil, stop, err
	}
	stops = append(stops, func() { _ = db.Stop() })
	browser, end, err := StartBrowser(filepath.Join(dir, "browser"))
	if err != nil {
		return nil, stop, err
	}
	stops = append(stops, end)
	return []string{sharedDatabase + "=" + db.URL("%s"), sharedPrograms + "=" + programs, SharedBrowser + "=" + browser}, stop, nil
}

// inMemory returns a folder whose files are in memory, or "" where there is none or the machine has no memory to spare. Hundreds of databases are
// made and thrown away: on a slow disk the tests would mostly wait for them.
func inMemory() string {
	const dir, enough = "/dev/shm", 8 << 30 // bytes; the databases of all tests take 3 GB
	var files syscall.Statfs_t
	if err := syscall.Statfs(dir, &files); err != nil || files.Bavail*uint64(files.Bsize) < enough || available() < enough {
		return ""
	}
	return dir
}

// available returns how much memory programs can take without swapping, in bytes (proc_meminfo(5), MemAvailable); 0 if that is not known.
func available() uint64 {
	said, _ := os.ReadFile("/proc/meminfo")
	_, rest, _ := strings.Cut(string(said), "MemAvailable:")
	number, _, _ := strings.Cut(strings.TrimSpace(rest), " ")
	kB, _ := strconv.ParseUint(number, 10, 64)
	return kB << 10
}

// browserFlags switch off everything in Chromium but showing pages, and make it treat background pages like the one in front.
var browserFlags = []string{
	"--headless", "--no-sandbox", "--remote-debugging-port=0", "--window-size=1280,800", "--lang=en-GB", "--hide-scrollbars", "--mute-audio", "--force-color-profile=srgb",
	"--no-first-run", "--no-default-browser-check", "--disable-gpu", "--disable-dev-shm-usage", "--disable-extensions", "--disable-sync", "--disable-breakpad",
	"--disable-background-networking", "--disable-component-update", "--disable-client-side-phishing-detection", "--disable-hang-monitor", "--disable-ipc-flooding-protection",
	"--disable-background-timer-throttling", "--disable-backgrounding-occluded-windows", "--disable-renderer-backgrounding", "--disable-popup-blocking", "--metrics-recording-only",
}

// WholeChromium is the program of a browser that can do everything, as reading PAC files; "" where there is none.
func WholeChromium() string {
	const whole = "/usr/bin/chromium"
	if _, err := os.Stat(whole); err != nil {
		return ""
	}
	return whole
}

// StartBrowser starts the Chromium that tests drive, and returns the address of its DevTools protocol. The browser ends with the calling process, however that ends.
func StartBrowser(profile string) (address string, stop func(), err error) {
	return StartChromium(chromium, profile)
}

// StartChromium is StartBrowser for another program, with more flags.
func StartChromium(program, profile string, flags ...string) (address string, stop func(), err error) {
	cmd := exec.Command(program, slices.Concat(browserFlags, []string{"--user-data-dir=" + profile}, flags)...)
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true, Pdeathsig: syscall.SIGKILL}
	said, err := cmd.StderrPipe()
	if err != nil {
		return "", nil, err
	}
	started, ended := make(chan error), make(chan struct{})
	go func() {
		runtime.LockOSThread() // the death signal belongs to the thread that forked
		err := cmd.Start()
		started <- err
		if err == nil {
			_ = cmd.Wait()
			close(ended)
		}
	}()
	if err := <-started; err != nil {
		return "", nil, fmt.Errorf("the browser does not start: %w; run `make deps`", err)
	}
	stop = func() {
		_ = syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL) // its helpers, too
		<-ended
	}
	found := make(chan string, 1)
	go func() {
		lines := bufio.NewScanner(said)
		for lines.Scan() { // to the end: a full pipe would stop the browser
			if _, at, ok := strings.Cut(lines.Text(), "DevTools listening on "); ok {
				found <- at
			}
		}
	}()
	select {
	case address = <-found:
		return address, stop, nil
	case <-ended:
		return "", nil, errors.New("the browser ended at once")
	case <-time.After(time.Minute):
		stop()
		return "", nil, errors.New("the browser does not say where it is driven")
	}
}
