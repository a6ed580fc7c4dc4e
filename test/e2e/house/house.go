// Package house is what the tests of the whole have in common: the service as a process on loopback with a real PostgreSQL, filled with the demo
// data or with what a test needs; makers of packs; files. The packages beside this one try the whole as its users meet it, noun by noun: through
// its API, its command line, and its console in headless Chromium.
package house

import (
	"flag"
	"testing"

	"widelark/internal/testkit"
	"widelark/test/e2e/browser"
)

// Server is the database server of the tests.
var Server *testkit.Server

// Shots is a folder for pictures of the console with the demo data; `make screenshots` gives docs/screenshots.
var Shots = flag.String("shots", "", "take the pictures of the documentation, into this folder")

// Main runs the tests of a package. It is for TestMain.
func Main(m *testing.M) int {
	flag.Parse()
	defer browser.CloseShared()
	return testkit.RunWithServer(m, &Server)
}
