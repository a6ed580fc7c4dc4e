package blockpage

import (
	"embed"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"golang.org/x/text/language"

	"widelark/core/policy"
)

// Words are what pages say in one language, besides what is particular to one refusal. The zero Words are English.
type Words struct {
	tag  string
	said map[string]string
}

//go:embed words
var written embed.FS

// english is what every language says.
var english = read("en")

// Languages are the tags of the languages in which pages speak, English first (BCP 47).
var Languages = []string{"en", "de", "es", "fr", "pl"}

var (
	spoken   = map[string]Words{}
	speakers language.Matcher
)

func init() {
	var tags []language.Tag
	for _, tag := range Languages {
		spoken[tag] = Words{tag, read(tag)}
		tags = append(tags, language.MustParse(tag))
	}
	speakers = language.NewMatcher(tags)
}

func read(tag string) (said map[string]string) {
	text, err := written.ReadFile("words/" + tag + ".json")
	if err == nil {
		err = json.Unmarshal(text, &said)
	}
	if err != nil {
		panic(fmt.Sprintf("the words in %q: %v", tag, err)) // they are part of the program
	}
	return said
}

// mostAccepted is how many bytes of an Accept-Language field are read.
const mostAccepted = 200

// In returns the words for whoever asks, by what their browser says of their languages (RFC 9110, section 12.5.4), else English.
func In(accepted string) Words {
	wanted := preferred(accepted)
	if len(wanted) == 0 {
		return Words{}
	}
	_, at, sure := speakers.Match(wanted...)
	if sure == language.No {
		return Words{}
	}
	return spoken[Languages[at]]
}

func preferred(accepted string) []language.Tag {
	if len(accepted) > mostAccepted {
		accepted = accepted[:strings.LastIndexByte(","+accepted[:mostAccepted], ',')]
	}
	wanted, _, err := language.ParseAcceptLanguage(accepted)
	if err != nil {
		return nil
	}
	return wanted
}

// Said returns what a policy says on a page to whoever asks: in their language, where it has words in it, else what it says to everybody.
func Said(page policy.Page, accepted string) (words policy.PageWords, tag string) {
	wanted := preferred(accepted)
	if len(wanted) == 0 || len(page.In) == 0 {
		return page.PageWords, ""
	}
	var keys []string
	for key := range page.In {
		keys = append(keys, key)
	}
	slices.Sort(keys)
	tags := []language.Tag{language.Und}
	for _, key := range keys {
		tags = append(tags, language.Make(key))
	}
	_, at, sure := language.NewMatcher(tags).Match(wanted...)
	if at == 0 || sure < language.High {
		return page.PageWords, ""
	}
	words = page.In[keys[at-1]]
	if words.Contact == "" {
		words.Contact = page.Contact
	}
	return words, keys[at-1]
}

// Lang returns the tag of the language.
func (w Words) Lang() string {
	if w.tag == "" {
		return "en"
	}
	return w.tag
}

// English reports whether the language is the one in which reasons are written.
func (w Words) English() bool { return w.Lang() == "en" }

// Say returns what is said under a key, with what belongs into it.
func (w Words) Say(key string, with ...any) string {
	text, ok := w.said[key]
	if !ok {
		text = english[key]
	}
	if len(with) == 0 {
		return text
	}
	return fmt.Sprintf(text, with...)
}

// Moment says when something is, in an organisation's time.
func (w Words) Moment(at time.Time) string {
	if w.English() {
		return at.Format("Monday 2 January, 15:04")
	}
	return at.Format("2006-01-02, 15:04")
}

// Span says how long something takes.
func (w Words) Span(d time.Duration) string {
	minutes := int(d.Minutes())
	switch {
	case !w.English() && minutes%60 == 0:
		return fmt.Sprint(minutes/60, " h")
	case !w.English():
		return fmt.Sprint(minutes, " min")
	case minutes == 1:
		return "a minute"
	case minutes == 60:
		return "an hour"
	case minutes%60 == 0:
		return fmt.Sprint(minutes/60, " hours")
	}
	return fmt.Sprint(minutes, " minutes")
}
