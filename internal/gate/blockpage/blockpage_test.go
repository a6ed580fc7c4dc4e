package blockpage

import (
	"net/http"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

// Every part of a page is text, whatever it holds; the page needs nothing from elsewhere, and stays small.
func TestHTML(t *testing.T) {
	const nasty = `"><script>alert(1)</script><img src=x onerror=alert(1)>'&{{.Title}}` + "\x00\u202e"
	page := string(Page{Title: nasty, URL: nasty, Because: nasty, Who: nasty, Is: nasty, By: nasty, Until: nasty, Reference: nasty, Organisation: nasty}.HTML())
	assert.NotContains(t, page, "<script")
	assert.NotContains(t, page, "<img")
	assert.NotContains(t, page, "http://")
	assert.NotContains(t, page, "https://")
	assert.NotContains(t, page, "url(")
	assert.Equal(t, 10, strings.Count(page, "&lt;script&gt;"), "each part, and the title twice")
	assert.Less(t, len(Page{Title: "a", URL: strings.Repeat("x", 8000)}.HTML()), 20_000)

	short := string(Page{Title: "This page is not allowed here", URL: "http://heron.example/", Because: "It is.", Reference: "R", Organisation: "Quillmere General"}.HTML())
	for _, left := range []string{"<dt>For", "<dt>It is", "<dt>Rule", "<dt>Until"} {
		assert.NotContains(t, short, left, "what is not known is left out")
	}
	assert.Contains(t, short, `<html lang="en">`)
	assert.NotEqual(t, short, string(Page{Held: true, Title: "This page is not allowed here", URL: "http://heron.example/", Because: "It is.", Reference: "R", Organisation: "Quillmere General"}.HTML()), "held pages have a colour of their own")
}

// A request is for a document if the browser says so or, where it says nothing, if it would rather have HTML; for anything else a few bytes of a fitting type do.
func TestKinds(t *testing.T) {
	for _, row := range []struct {
		dest, accept string
		document     bool
		media        string
	}{
		{"document", "*/*", true, ""},
		{"iframe", "", true, ""},
		{"", "text/html,application/xhtml+xml;q=0.9", true, ""},
		{"", "text/html; charset=utf-8", true, ""},
		{"", "*/*", false, "text/plain; charset=utf-8"},
		{"", "", false, "text/plain; charset=utf-8"},
		{"image", "text/html", false, "image/gif"},
		{"script", "*/*", false, "text/javascript"},
		{"worker", "*/*", false, "text/javascript"},
		{"style", "text/css,*/*;q=0.1", false, "text/css"},
		{"empty", "application/json, text/plain", false, "application/json"},
		{"", "image/avif,image/webp", false, "image/gif"},
		{"", "application/json", false, "application/json"},
	} {
		header := http.Header{}
		header.Set("Sec-Fetch-Dest", row.dest)
		header.Set("Accept", row.accept)
		assert.Equal(t, row.document, IsDocument(header), "%+v", row)
		if row.document {
			continue
		}
		media, body := Small(header)
		assert.Equal(t, row.media, media, "%+v", row)
		assert.Less(t, len(body), 100)
	}
}
