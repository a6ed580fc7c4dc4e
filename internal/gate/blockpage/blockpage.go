// Package blockpage writes what people see in place of a page that they may not open: a page with the reason, or a few bytes where what was
// asked for is no document.
//
// From: what was decided, in words.
// To: a body, and its media type.
package blockpage

import (
	"bytes"
	"embed"
	"html/template"
	"net/http"
	"regexp"
	"strings"
)

// Page is what a block page says. Every part is text: it is escaped where it is written.
type Page struct {
	Words
	Held         bool   // the page waits to be unlocked; otherwise it is blocked
	Title        string // of the policy; "" for the page's own
	Logo         string // of the policy, as a data URL of a picture; "" for none
	SaidIn       string // the language of what the policy says; "" where it does not say
	URL          string
	Because      string
	Who          string   // "" where nobody is known
	Is           string   // the categories
	By           string   // the policy and the rule
	Until        string   // "" where time alone does not change it
	Reference    string   // by which the help desk finds the record
	AskAt        string   // where access is asked for; "" where that is not possible
	Text         string   // of the policy, to whoever reads it; "" for none
	Contact      string   // whom to ask; "" for the help desk
	Remains      []string // the sites and pages that are open, where there are only a few
	Organisation string
}

// mostURL is how many bytes of a URL are shown.
const mostURL = 1000

// Shown returns the URL as far as it is shown.
func (p Page) Shown() string {
	if len(p.URL) <= mostURL {
		return p.URL
	}
	return strings.ToValidUTF8(p.URL[:mostURL], "") + "…"
}

// picture matches the logos that pages show: pictures, whole and in place (RFC 2397).
var picture = regexp.MustCompile(`^data:image/(?:png|jpeg|gif|webp|svg\+xml);base64,[A-Za-z0-9+/]+={0,2}$`)

// IsPicture reports whether a text is a picture that a page can show: a data URL of PNG, JPEG, GIF, WebP or SVG in base64.
func IsPicture(url string) bool { return picture.MatchString(url) }

// Picture returns the logo, if it is one. Scripts in a picture do not run (HTML, section 4.8.3).
func (p Page) Picture() template.URL {
	if !IsPicture(p.Logo) {
		return ""
	}
	return template.URL(p.Logo)
}

// Why says in the page's language, and in a few words, why the page is refused; "" in English, in which the whole reason is.
func (p Page) Why() string {
	switch {
	case p.English():
		return ""
	case p.Is != "":
		return p.Say("why is", p.Is)
	}
	return p.Say("why")
}

// Ask is what the page says on which people ask for access.
type Ask struct {
	Words
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
	Codes        bool   // are taken, as a rule holds the page for one
	HasCode      bool   // the page is blocked, and a code may open it
	Shared       bool   // nobody comes past the hold from this address, as many clients share it
	For          string // how long an acknowledgement lets the asker past
	Past         string // until when the asker has come past it; "" where they have not
	Organisation string
}

// Failed is what the page says about a site that could not be reached.
type Failed struct {
	Words
	URL          string
	Because      string
	Certificate  bool // the site's certificate cannot be trusted
	Inside       bool // it is inside the organisation's network, where the gate does not lead
	Organisation string
}

// Mine is what people see of themselves: who they are to the gate, and what was refused to them lately.
type Mine struct {
	Words
	Who          string // "" where nobody in particular is known
	Address      string
	Problem      string
	Token        string // that its forms send
	SignsIn      bool   // they can sign in, for so long: For
	For          string
	Leaves       bool // they can say that they leave
	Shared       bool // many people share the address
	Refused      []Lately
	Organisation string
}

// Lately is a page that was refused.
type Lately struct {
	URL, Because, At, Reference string
	Held                        bool
}

// Trust is what the page says about the authority of a gate.
type Trust struct {
	Organisation string
	Address      string // of the gate
	Trust        []Certificate
}

// Certificate is one of an authority.
type Certificate struct{ Name, Until, Fingerprint string }

//go:embed *.html
var sources embed.FS

var pages = template.Must(template.ParseFS(sources, "*.html"))

// HTML returns the page as a document of its own, without scripts and without anything that would have to be fetched; so do the others.
func (p Page) HTML() []byte { return render("page.html", p) }

// HTML returns the page.
func (a Ask) HTML() []byte { return render("ask.html", a) }

// HTML returns the page.
func (m Mine) HTML() []byte { return render("mine.html", m) }

// HTML returns the page.
func (f Failed) HTML() []byte { return render("failed.html", f) }

// HTML returns the page.
func (t Trust) HTML() []byte { return render("trust.html", t) }

func render(name string, data any) []byte {
	var b bytes.Buffer
	if err := pages.ExecuteTemplate(&b, name, data); err != nil {
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
