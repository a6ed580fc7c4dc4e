// Package e2e tries the whole as its users meet it: the service as a process on loopback with a real PostgreSQL, through
// its API, its command line, and its console in headless Chromium.
package e2e

import (
	"flag"
	"os"
	"testing"

	"widelark/internal/testkit"
)

var server *testkit.Server

// shots is a folder for pictures of the console with the demo data; `make screenshots` gives docs/screenshots.
var shots = flag.String("shots", "", "take the pictures of the documentation, into this folder")

func TestMain(m *testing.M) {
	flag.Parse()
	code := testkit.RunWithServer(m, &server)
	closeShared()
	os.Exit(code)
}
