// Package journal tries what is set up around the journal: reports, alerts, searches that are kept, records sent on, and what is asked about people.
package journal

import (
	"bytes"
	"context"
	"io"
	"mime"
	"mime/multipart"
	"mime/quotedprintable"
	"net"
	"net/mail"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widelark/client"
	"widelark/demo"
	"widelark/internal/testkit"
	"widelark/test/e2e/house"
)

func TestMain(m *testing.M) { os.Exit(house.Main(m)) }

// sink is a mail server that keeps what it gets.
type sink struct{ dir, address string }

func newSink(t *testing.T) *sink {
	t.Helper()
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	s := &sink{filepath.Join(t.TempDir(), "mail"), listener.Addr().String()}
	server := demo.MailSink(s.dir)
	go func() { _ = server.Serve(listener) }()
	t.Cleanup(func() { _ = server.Close() })
	return s
}

// letter is a mail that came.
type letter struct {
	id, to, subject, text string
	files                 map[string][]byte
}

// letters returns the mails to an address, in the order in which they came.
func (s *sink) letters(t require.TestingT, to string) (found []letter) {
	names, err := filepath.Glob(filepath.Join(s.dir, "*.eml"))
	require.NoError(t, err)
	slices.Sort(names)
	for _, name := range names {
		raw, err := os.ReadFile(name)
		require.NoError(t, err)
		m, err := mail.ReadMessage(bytes.NewReader(raw))
		require.NoError(t, err)
		if !strings.Contains(m.Header.Get("To"), to) {
			continue
		}
		subject, err := new(mime.WordDecoder).DecodeHeader(m.Header.Get("Subject"))
		require.NoError(t, err)
		l := letter{id: m.Header.Get("Message-ID"), to: m.Header.Get("To"), subject: subject, files: map[string][]byte{}}
		kind, params, err := mime.ParseMediaType(m.Header.Get("Content-Type"))
		require.NoError(t, err)
		if kind == "text/plain" {
			text, err := io.ReadAll(quotedprintable.NewReader(m.Body))
			require.NoError(t, err)
			l.text = string(text)
		} else {
			parts := multipart.NewReader(m.Body, params["boundary"])
			for part, err := parts.NextPart(); err == nil; part, err = parts.NextPart() {
				content, err := io.ReadAll(part)
				require.NoError(t, err)
				if part.FileName() == "" {
					l.text += string(content)
				} else {
					l.files[part.FileName()] = content
				}
			}
		}
		found = append(found, l)
	}
	return found
}

// serve starts a service that has arguments.
func serve(t *testing.T, args ...string) *testkit.Service {
	t.Helper()
	s := house.Server.Serve(t)
	s.Kill()
	s.Args = append([]string{"--secret-file", filepath.Join(t.TempDir(), "secret")}, args...)
	s.Start(t)
	return s
}

// beside starts another service on the same database.
func beside(t *testing.T, s *testkit.Service) *testkit.Service {
	t.Helper()
	other := &testkit.Service{Database: s.Database, Config: s.Config, Args: s.Args}
	other.Start(t)
	t.Cleanup(other.Kill)
	return other
}

// furnish makes two people, a list that is blocked and a category-free rest, and publishes that.
func furnish(t *testing.T, s *testkit.Service) {
	t.Helper()
	run := func(args ...string) { s.Run(t, "", args...).Done(t) }
	run("group", "new", "Nurses")
	run("person", "new", "kay.moran", "--full-name", "Kay Moran", "--in", "Nurses")
	run("person", "new", "moss.teal", "--full-name", "Moss Teal", "--in", "Nurses")
	run("list", "new", "Betting")
	run("list", "add", "Betting", "oddsfield.example", "slots.example")
	run("policy", "rule", "add", "Fallback", "No betting", "--list", "Betting")
	run("publish", "--note", "betting")
}

// record adds requests of a person.
func record(t require.TestingT, api *client.ClientWithResponses, person string, at time.Time, urls ...string) {
	var records []client.RecordedInput
	for i, u := range urls {
		records = append(records, client.RecordedInput{At: at.Add(time.Duration(i) * time.Millisecond), URL: u, Person: &person})
	}
	answer, err := api.AddRecordedWithResponse(context.Background(), client.AddRecordedInputBody{Records: records})
	require.NoError(t, err)
	assert.EqualValues(t, len(urls), answer.JSON200.Kept)
}
