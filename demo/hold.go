package demo

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"regexp"
	"strings"
	"time"

	"widelark/client"
)

// A page that the ward's nurses may open with a code, and who has done so.
const (
	HeldPage = "http://nobody-knows.example/setup.exe"
	heldFor  = "kay.moran"
)

var (
	referenceOn = regexp.MustCompile(`/ask\?reference=([A-Z2-7]+)`)
	tokenOn     = regexp.MustCompile(`name="token" value="([^"]+)"`)
)

// Unlock makes a code as the help desk does, and has a nurse enter it at the proxy gate: what is held is then open to her. Where somebody is past a hold already,
// it does nothing.
func Unlock(ctx context.Context, api *client.ClientWithResponses, gate string) error {
	known, err := api.GetCodesWithResponse(ctx)
	if err != nil || len(known.JSON200.Codes)+len(known.JSON200.Passages) > 0 {
		return err
	}
	until := time.Now().Add(7 * 24 * time.Hour)
	made, err := api.AddCodeWithResponse(ctx, client.CodeBody{Minutes: 8 * 60, Uses: 5, Until: until, Reason: "The driver for the ward's label printer"})
	if err != nil {
		return err
	}
	form, err := refusedAt(ctx, gate, heldFor, HeldPage)
	if err != nil {
		return err
	}
	return form.send(ctx, url.Values{"act": {"code"}, "code": {*made.JSON201.Text}})
}

// pageForm is the form on the gate's page about something that was refused to somebody.
type pageForm struct {
	at, token string
	client    *http.Client
}

// refusedAt asks for a page at the proxy gate as somebody, who is refused, and returns the form on the page about that. It waits until the gate has the rules that refuse it.
func refusedAt(ctx context.Context, gate, person, at string) (*pageForm, error) {
	through := &http.Client{Transport: &http.Transport{Proxy: http.ProxyURL(&url.URL{Scheme: "http", Host: gate, User: url.UserPassword(person, Password)})}}
	defer through.CloseIdleConnections()
	var reference []string
	for begin := time.Now(); reference == nil; {
		page, err := read(ctx, through, http.MethodGet, at, nil)
		if err != nil {
			return nil, err
		}
		if reference = referenceOn.FindStringSubmatch(page); reference == nil {
			if time.Since(begin) > 30*time.Second {
				return nil, fmt.Errorf("the gate refuses %s to nobody like %s", at, person)
			}
			time.Sleep(100 * time.Millisecond)
		}
	}
	direct := &http.Client{Transport: &http.Transport{DisableKeepAlives: true}, CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	own := "http://" + gate + "/ask?reference=" + reference[1]
	page, err := read(ctx, direct, http.MethodGet, own, nil)
	if err != nil {
		return nil, err
	}
	token := tokenOn.FindStringSubmatch(page)
	if token == nil {
		return nil, errors.New("the gate's page about what is refused has no form")
	}
	return &pageForm{own, token[1], direct}, nil
}

// send fills the form in.
func (f *pageForm) send(ctx context.Context, with url.Values) error {
	with.Set("token", f.token)
	_, err := read(ctx, f.client, http.MethodPost, f.at, with)
	return err
}

// read asks for a page as a browser does, and returns its text.
func read(ctx context.Context, c *http.Client, method, at string, form url.Values) (string, error) {
	r, err := http.NewRequestWithContext(ctx, method, at, strings.NewReader(form.Encode()))
	if err != nil {
		return "", err
	}
	r.Header.Set("Accept", "text/html")
	if form != nil {
		r.Header.Set("Content-Type", "application/x-www-form-urlencoded")
	}
	answer, err := c.Do(r)
	if err != nil {
		return "", err
	}
	defer answer.Body.Close()
	text, err := io.ReadAll(io.LimitReader(answer.Body, 1<<20))
	if err == nil && answer.StatusCode == http.StatusBadRequest {
		err = fmt.Errorf("%s %s: %s", method, at, answer.Status)
	}
	return string(text), err
}
