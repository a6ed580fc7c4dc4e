package blockpage

import (
	"fmt"
	"net/http"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"widelark/core/policy"
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

// Every language says everything that English says, with as much in it, and every page speaks it.
func TestLanguages(t *testing.T) {
	verbs := regexp.MustCompile(`%[a-z]`)
	for _, tag := range Languages {
		w := spoken[tag]
		assert.Len(t, w.said, len(english), tag)
		for key, text := range english {
			assert.NotEmpty(t, w.said[key], "%s: %s", tag, key)
			assert.Equal(t, verbs.FindAllString(text, -1), verbs.FindAllString(w.said[key], -1), "%s: %s", tag, key)
		}
		for _, page := range [][]byte{
			Page{Words: w, Is: "Games", By: "x", Who: "x", Until: "x", Contact: "x", Remains: []string{"https://heron.example/"}, Organisation: "Q"}.HTML(),
			Page{Words: w, Held: true, AskAt: "/ask", Contact: "x"}.HTML(), Ask{Words: w, Acknowledges: true, Asks: true, Who: "x", URL: "u", Because: "b"}.HTML(),
			Ask{Words: w, Codes: true, Shared: true, Asks: true, Problem: "p"}.HTML(), Ask{Words: w, State: "open"}.HTML(), Ask{Words: w, State: "granted", URL: "u"}.HTML(),
			Ask{Words: w, State: "refused"}.HTML(), Ask{Words: w, Past: "x", URL: "u"}.HTML(),
			Mine{Words: w, SignsIn: true, Refused: []Lately{{URL: "u"}, {Held: true}}}.HTML(), Mine{Words: w, Who: "x", Leaves: true}.HTML(), Mine{Words: w, Shared: true}.HTML(),
			Failed{Words: w, Inside: true}.HTML(), Failed{Words: w, Certificate: true}.HTML(),
		} {
			assert.Contains(t, string(page), fmt.Sprintf(`<html lang="%s">`, tag))
			assert.NotContains(t, string(page), "%!")
			assert.NotRegexp(t, `<(h1|h2|dt|label|button type="submit"|title)></`, string(page), "something is not said")
			if tag != "en" {
				assert.NotRegexp(t, `\b([Yy]our?|[Tt]his|[Tt]he)\b`, strings.Split(string(page), "</style>")[1], "%s: something is still English", tag)
			}
		}
	}
}

func TestIn(t *testing.T) {
	for accepted, want := range map[string]string{
		"": "en", "de": "de", "de-AT,de;q=0.9,en;q=0.8": "de", "fr-CH, fr;q=0.9": "fr", "cy, pl;q=0.5": "pl", "ja": "en", "en-GB,de": "en", "*": "en",
		"!!": "en", "de;q=0": "en", strings.Repeat("x", 5000): "en", "de," + strings.Repeat("x-", 300): "de",
	} {
		assert.Equal(t, want, In(accepted).Lang(), accepted)
	}
}

// What a policy says is said in the language of whoever reads it, where it has words in it.
func TestSaid(t *testing.T) {
	page := policy.Page{PageWords: policy.PageWords{Text: "Ask at the desk.", Contact: "the desk"}, In: map[string]policy.PageWords{"de": {Text: "Fragen Sie am Empfang."}, "cy": {Text: "Gofynnwch.", Contact: "y ddesg"}}}
	for accepted, want := range map[string][]string{
		"": {"Ask at the desk.", "the desk", ""}, "en": {"Ask at the desk.", "the desk", ""}, "de-CH": {"Fragen Sie am Empfang.", "the desk", "de"}, "cy, en": {"Gofynnwch.", "y ddesg", "cy"}, "ja": {"Ask at the desk.", "the desk", ""},
	} {
		words, tag := Said(page, accepted)
		assert.Equal(t, want, []string{words.Text, words.Contact, tag}, accepted)
	}
}

// A page with all that a policy can say stays small, and shows pictures alone.
func TestLogo(t *testing.T) {
	logo := "data:image/png;base64," + strings.Repeat("AAAA", 2000)
	full := Page{Words: In("pl"), Title: strings.Repeat("t", 120), Text: strings.Repeat("ł", 1900), Contact: strings.Repeat("c", 80), URL: strings.Repeat("x", 8000), Logo: logo, Organisation: "Quillmere General", Is: "Games", By: "x", Because: strings.Repeat("b", 300), AskAt: "/ask"}
	for range 12 {
		full.Remains = append(full.Remains, "https://quillmere.internal/"+strings.Repeat("m", 40))
	}
	assert.Less(t, len(full.HTML()), 20_000)
	assert.Contains(t, string(full.HTML()), `src="`+logo+`"`)
	for _, other := range []string{"https://heron.example/logo.png", "javascript:alert(1)", "data:text/html;base64,AAAA", `data:image/png;base64,AA"onerror="x`, "data:image/png,x"} {
		assert.NotContains(t, string(Page{Logo: other}.HTML()), "<img", other)
	}
}
