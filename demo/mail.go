package demo

import (
	"fmt"
	"io"
	"os"
	"path/filepath"
	"sync/atomic"
	"time"

	"github.com/emersion/go-smtp"
)

// MailFrom is whom the demo's mail comes from.
const MailFrom = "Wide Lark <lark@quillmere.example>"

// MailSink returns a server that takes every mail, and keeps it as a file in a folder.
func MailSink(dir string) *smtp.Server {
	s := smtp.NewServer(&sink{dir: dir})
	s.Domain = "mail.quillmere.example"
	s.MaxMessageBytes = 64 << 20
	s.ReadTimeout, s.WriteTimeout = time.Minute, time.Minute
	return s
}

// sink keeps mails.
type sink struct {
	dir string
	n   atomic.Int64
}

// NewSession implements [smtp.Backend].
func (s *sink) NewSession(*smtp.Conn) (smtp.Session, error) { return &sinkSession{sink: s}, nil }

// sinkSession takes mails of one connection.
type sinkSession struct{ sink *sink }

// Mail implements [smtp.Session].
func (*sinkSession) Mail(string, *smtp.MailOptions) error { return nil }

// Rcpt implements [smtp.Session].
func (*sinkSession) Rcpt(string, *smtp.RcptOptions) error { return nil }

// Data implements [smtp.Session].
func (s *sinkSession) Data(r io.Reader) error {
	mail, err := io.ReadAll(r)
	if err != nil {
		return err
	}
	if err := os.MkdirAll(s.sink.dir, 0o755); err != nil {
		return err
	}
	name := fmt.Sprintf("%s-%03d.eml", time.Now().Format("20060102-150405"), s.sink.n.Add(1))
	part := filepath.Join(s.sink.dir, "."+name)
	if err := os.WriteFile(part, mail, 0o644); err != nil {
		return err
	}
	return os.Rename(part, filepath.Join(s.sink.dir, name)) // who looks into the folder sees whole mails
}

// Reset implements [smtp.Session].
func (*sinkSession) Reset() {}

// Logout implements [smtp.Session].
func (*sinkSession) Logout() error { return nil }
