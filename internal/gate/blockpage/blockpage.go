// Package blockpage writes what people see in place of a page that they may not open: a page with the reason, or a few bytes where what was
// asked for is no document.
//
// From: what was decided, in words.
// To: a body, and its media type.
package blockpage

import (
	"bytes"
	_ "embed"
	"html/template"
	"net/http"
	"strings"
)

// Page is what a block page says. Every part is text: it is escaped where it is written.
type Page struct {
	Held         bool // the page waits to be unlocked; otherwise it is blocked
	Title        string
	URL          string
	Because      string
	Who          string // "" where nobody is known
	Is           string // the categories
	By           string // the policy and the rule
	Until        string // "" where time alone does not change it
	Reference    string // by which the help desk finds the record
	AskAt        string // where access is asked for; "" where that is not possible
	Organisation string
}

// Ask is what the page says on which people ask for access.
type Ask struct {
	URL       string // "" where the reference is not known
	Because   string
	Who       string
	State     string // of the request: open, granted or refused; "" where nobody has asked yet
	Answer    string
	Problem   string
	Reference string
	Token     string // that its forms send

	Asks         bool   // for access
	Acknowledges bool   // that it is held
	Codes        bool   // are taken
	For          string // how long an acknowledgement lets the asker past
	Past         string // until when the asker has come past it; "" where they have not
	Organisation string
}

//go:embed page.html
var source string

var page = template.Must(template.New("page").Parse(source))

//go:embed ask.html
var askSource string

var askPage = template.Must(template.New("ask").Parse(askSource))

// HTML returns the page as a document of its own.
func (a Ask) HTML() []byte { return written(askPage, a) }

// HTML returns the page as a document of its own, without scripts and without anything that would have to be fetched.
func (p Page) HTML() []byte { return written(page, p) }

func written(t *template.Template, data any) []byte {
	var b bytes.Buffer
	if err := t.Execute(&b, data); err != nil {
		return []byte("<!doctype html><title>Not allowed</title><p>This page is not allowed here.") // the template is a constant, and the data are text only
	}
	return b.Bytes()
}

// IsDocument reports whether a browser will show the answer to a request as a page: Sec-Fetch-Dest says so or, without it, Accept puts HTML first
// (Fetch metadata, W3C; RFC 9110, section 12.5.1).
func IsDocument(header http.Header) bool {
	switch dest := header.Get("Sec-Fetch-Dest"); dest {
	case "":
	case "document", "iframe", "frame":
		return true
	default:
		return false
	}
	first, _, _ := strings.Cut(header.Get("Accept"), ",")
	first, _, _ = strings.Cut(strings.TrimSpace(first), ";")
	return first == "text/html" || first == "application/xhtml+xml"
}

// gif is a picture of one transparent point.
const gif = "GIF89a\x01\x00\x01\x00\x80\x00\x00\x00\x00\x00\x00\x00\x00!\xf9\x04\x01\x00\x00\x00\x00,\x00\x00\x00\x00\x01\x00\x01\x00\x00\x02\x02D\x01\x00;"

// Small returns a few bytes of a media type that fits a request for something that is not a document, so that the page around it goes on.
func Small(header http.Header) (media string, body []byte) {
	accept, _, _ := strings.Cut(header.Get("Accept"), ",")
	switch header.Get("Sec-Fetch-Dest") {
	case "image":
		return "image/gif", []byte(gif)
	case "script", "worker", "serviceworker", "sharedworker":
		return "text/javascript", nil
	case "style":
		return "text/css", nil
	}
	switch {
	case strings.HasPrefix(accept, "image/"):
		return "image/gif", []byte(gif)
	case strings.HasPrefix(accept, "text/css"):
		return "text/css", nil
	case strings.HasPrefix(accept, "application/json"):
		return "application/json", []byte("{}")
	}
	return "text/plain; charset=utf-8", []byte("Not allowed here.\n")
}
