package lookup

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widelark/core/classify"
	"widelark/core/pattern"
	"widelark/core/weburl"
	"widelark/internal/revision"
)

func texts(urls []weburl.URL) (all []string) {
	for _, u := range urls {
		all = append(all, u.String())
	}
	return all
}

func TestAbove(t *testing.T) {
	for url, want := range map[string]string{
		"www.shop.heron.co.uk/a/b?c=d": "https://heron.co.uk/ https://shop.heron.co.uk/ https://www.shop.heron.co.uk/ https://www.shop.heron.co.uk/a https://www.shop.heron.co.uk/a/b?c=d",
		"http://heron.example:8080/x/": "http://heron.example:8080/ http://heron.example:8080/x/",
		"heron.example":                "https://heron.example/",
		"heron.example/?q=1":           "https://heron.example/ https://heron.example/?q=1",
		"203.0.113.7/a":                "https://203.0.113.7/ https://203.0.113.7/a",
		"[2001:db8::7]/a/b":            "https://[2001:db8::7]/ https://[2001:db8::7]/a https://[2001:db8::7]/a/b",
		"co.uk":                        "https://co.uk/",
	} {
		assert.Equal(t, want, strings.Join(texts(above(weburl.MustParse(url))), " "), url)
	}
	deep := above(weburl.MustParse("heron.example" + strings.Repeat("/a", 40)))
	assert.Len(t, deep, maxAbove)
	assert.Equal(t, "https://heron.example"+strings.Repeat("/a", 40), deep[maxAbove-1].String(), "the page itself is always there")
}

func TestScore(t *testing.T) {
	word := func(text string, points int) classify.Term {
		p, err := revision.ParseWord(text)
		require.NoError(t, err)
		return classify.Term{Word: p, Points: points}
	}
	card := classify.Scorecard{Name: "Adult words", Category: "adult", Threshold: 50, Terms: []classify.Term{word("breast*", 50), word("cancer", -100), word("adults only", 60)}}
	for text, want := range map[string]string{
		"breasts":                               "50 false",
		"shore.example/breast?q=adults+only":    "110 true",
		"https://breast.example/":               "50 true",
		"shore.example":                         "0 true",
		"Breast cancer. Read on: a.example":     "-50 false",
		"adults\n\tonly":                        "60 false",
		"ftp.":                                  "0 true", // reads as a host, as odd as it is
		"see breast.example/cancer, for adults": "-50 false",
	} {
		score, isURL := Score(card, text)
		assert.Equal(t, want, fmt.Sprint(score.Total, " ", isURL), text)
		assert.Equal(t, score.Total >= 50, score.Reached(), text)
		assert.Equal(t, "Adult words", score.Name)
	}
}

func TestSeenURL(t *testing.T) {
	for _, row := range []struct{ host, path, want string }{
		{"heron.example", "/", "https://heron.example/"},
		{"2001:db8::7", "/x", "https://[2001:db8::7]/x"},
		{"[2001:db8::7]", "/x", "https://[2001:db8::7]/x"},
		{"203.0.113.7", "/", "https://203.0.113.7/"},
	} {
		u, err := seenURL(revision.SeenPage{Host: row.host, Path: row.path})
		require.NoError(t, err)
		assert.Equal(t, row.want, u.String())
	}
}

func TestKeysAreSorted(t *testing.T) {
	c := classify.New(classify.NewLocal([]classify.Correction{{ID: 1, Pattern: pattern.MustParse("a.example").Pattern, Categories: []string{"news", "chat"}}}, nil, nil), nil, nil)
	var r classify.Result
	c.Classify(&r, weburl.MustParse("a.example"), pattern.Date{}, weburl.Full)
	assert.Equal(t, []string{"chat", "news"}, keys(c, r))
}
