package revision

import (
	"encoding/base64"
	"fmt"
	"net/url"
	"strings"

	"golang.org/x/text/language"

	"widelark/core/policy"
)

// PageBody is what a policy says on the pages that people see in place of what is refused.
type PageBody struct {
	Title     string          `json:"title,omitempty" maxLength:"120" doc:"In place of the page's own"`
	Text      string          `json:"text,omitempty" maxLength:"2000" doc:"To whoever reads it"`
	Contact   string          `json:"contact,omitempty" maxLength:"200" doc:"Whom to ask; left out, whom the fallback says, else the help desk"`
	Languages []PageWordsBody `json:"languages,omitempty" maxItems:"20" doc:"The same in other languages, for those whose browsers ask for them"`
	Logo      string          `json:"logo,omitempty" maxLength:"9000" doc:"A picture as a data URL: PNG, JPEG, GIF, WebP or SVG in base64, of 6 kB at most; left out, the fallback's"`
	Redirect  string          `json:"redirect,omitempty" maxLength:"2000" doc:"A URL where blocked pages lead in place of the block page"`
}

// PageWordsBody is what a policy says on pages in one language.
type PageWordsBody struct {
	Language string `json:"language" minLength:"2" maxLength:"35" doc:"Its tag, as de (BCP 47)"`
	Title    string `json:"title,omitempty" maxLength:"120"`
	Text     string `json:"text,omitempty" maxLength:"2000"`
	Contact  string `json:"contact,omitempty" maxLength:"200"`
}

// mostLogo is the largest picture, in bytes: a page with all that belongs to it takes less than 20 kB. mostWords is the same for what is said in one language.
const (
	mostLogo  = 6000
	mostWords = 4000
)

func (b *PageBody) empty() bool {
	return b.Title+b.Text+b.Contact+b.Logo+b.Redirect == "" && len(b.Languages) == 0
}

// check puts the body into the form in which it is kept.
func (b *PageBody) check() error {
	for _, text := range []*string{&b.Title, &b.Text, &b.Contact, &b.Logo, &b.Redirect} {
		*text = strings.TrimSpace(*text)
	}
	if n := len(b.Title + b.Text + b.Contact); n > mostWords {
		return &FieldError{"page.text", fmt.Sprintf("%d bytes of title, text and contact: a page has room for %d", n, mostWords)}
	}
	seen := map[string]bool{}
	for i := range b.Languages {
		at := fmt.Sprintf("page.languages[%d]", i)
		if err := b.Languages[i].check(at); err != nil {
			return err
		}
		if tag := b.Languages[i].Language; seen[tag] {
			return &FieldError{at + ".language", fmt.Sprintf("%q is said twice", tag)}
		}
		seen[b.Languages[i].Language] = true
	}
	if b.Logo != "" {
		media, data, _ := strings.Cut(b.Logo, ";base64,")
		picture, err := base64.StdEncoding.DecodeString(data)
		switch {
		case !pictures[strings.TrimPrefix(media, "data:")] || err != nil || len(picture) == 0:
			return &FieldError{"page.logo", "this is not a picture as data:image/png;base64,…: PNG, JPEG, GIF, WebP and SVG are taken"}
		case len(picture) > mostLogo:
			return &FieldError{"page.logo", fmt.Sprintf("a picture of %d bytes: pages have room for %d; make it smaller, or take an SVG", len(picture), mostLogo)}
		}
	}
	if b.Redirect == "" {
		return nil
	}
	if u, err := url.Parse(b.Redirect); err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Host == "" {
		return &FieldError{"page.redirect", fmt.Sprintf("%q is not an address of the web, as https://intranet.example/refused", b.Redirect)}
	}
	return nil
}

// pictures are the media types of logos.
var pictures = map[string]bool{"image/png": true, "image/jpeg": true, "image/gif": true, "image/webp": true, "image/svg+xml": true}

func (b *PageWordsBody) check(at string) error {
	b.Title, b.Text, b.Contact = strings.TrimSpace(b.Title), strings.TrimSpace(b.Text), strings.TrimSpace(b.Contact)
	tag, err := language.Parse(strings.TrimSpace(b.Language))
	switch n := len(b.Title + b.Text + b.Contact); {
	case err != nil || tag == language.Und:
		return &FieldError{at + ".language", fmt.Sprintf("%q is not the tag of a language, as de or pt-BR", b.Language)}
	case n == 0:
		return &FieldError{at, "nothing is said in this language: say something, or leave the language out"}
	case n > mostWords:
		return &FieldError{at + ".text", fmt.Sprintf("%d bytes of title, text and contact: a page has room for %d", n, mostWords)}
	}
	b.Language = tag.String()
	return nil
}

// Checked returns what is said in the core's form, if it is in order.
func (b *PageBody) Checked() (policy.Page, error) {
	if err := b.check(); err != nil {
		return policy.Page{}, err
	}
	return b.Page(), nil
}

// Page returns the core's form of what is said.
func (b *PageBody) Page() policy.Page {
	p := policy.Page{PageWords: policy.PageWords{Title: b.Title, Text: b.Text, Contact: b.Contact}, Logo: b.Logo, Redirect: b.Redirect}
	for _, words := range b.Languages {
		if p.In == nil {
			p.In = map[string]policy.PageWords{}
		}
		p.In[words.Language] = policy.PageWords{Title: words.Title, Text: words.Text, Contact: words.Contact}
	}
	return p
}
