// Package client is the Go client of the API: generated from the contract, with errors that say what to do.
//
// From: calls by the command line, the demo and tests.
// To: a running service.
package client

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strings"
	"syscall"
)

// Problem is what the service says when it does not carry out a request (RFC 9457).
type Problem struct {
	Status int
	Type   string // which problem of that status, as "/problems/nothing-to-publish"; "" where the status says enough
	Detail string
	Fields []FieldProblem
}

// The types of problems that a client may want to tell apart.
const (
	NothingToPublish = "/problems/nothing-to-publish"
	ExpectationsFail = "/problems/expectations-fail"
	NameOrPassword   = "/problems/name-or-password"
	CodeWanted       = "/problems/code-wanted"
)

// FieldProblem is one field that is wrong.
type FieldProblem struct {
	Path    string // as "rules[0].lists[1]"; "" where it is the request as a whole
	Message string
	Column  int    // of a text that cannot be read, from 1 on; 0 where it is no text
	Fix     string // the text as it was probably meant; "" where that cannot be told
}

// Error returns the detail with the fields after it.
func (p *Problem) Error() string {
	text := strings.TrimSuffix(p.Detail, ".")
	for i, field := range p.Fields {
		text += [2]string{"; ", ": "}[btoi(i == 0)]
		if field.Path != "" {
			text += field.Path + ": "
		}
		text += field.Message
	}
	return text
}

func btoi(b bool) int {
	if b {
		return 1
	}
	return 0
}

// New returns a client of the service at server, as "http://127.0.0.1:8470", that acts with a token; "" acts for nobody.
// Every answer other than 2xx comes back as a [*Problem], so the success field of a response is never nil.
func New(server, token string) (*ClientWithResponses, error) {
	address, err := url.Parse(server)
	if err != nil || address.Host == "" || address.Scheme != "http" && address.Scheme != "https" {
		return nil, fmt.Errorf("%q is not the address of a service; write it like http://127.0.0.1:8470", server)
	}
	return NewClientWithResponses(strings.TrimSuffix(server, "/"), WithHTTPClient(&doer{server: server, token: token}))
}

// NewWithCookies is New for a session: cookies that the service sets are kept in jar.
func NewWithCookies(server string, jar http.CookieJar) (*ClientWithResponses, error) {
	c, err := New(server, "")
	if err != nil {
		return nil, err
	}
	c.ClientInterface.(*Client).Client.(*doer).http.Jar = jar
	return c, nil
}

// NewSigned is New for a caller that signs a token of its own for each request.
func NewSigned(server string, sign func() (string, error)) (*ClientWithResponses, error) {
	c, err := New(server, "")
	if err != nil {
		return nil, err
	}
	c.ClientInterface.(*Client).Client.(*doer).sign = sign
	return c, nil
}

type doer struct {
	http          http.Client
	server, token string
	sign          func() (string, error) // in place of token; nil for none
}

// Do implements HttpRequestDoer.
func (d *doer) Do(req *http.Request) (*http.Response, error) {
	if d.sign != nil {
		token, err := d.sign()
		if err != nil {
			return nil, err
		}
		req.Header.Set("Authorization", "Bearer "+token)
	} else if d.token != "" {
		req.Header.Set("Authorization", "Bearer "+d.token)
	}
	res, err := d.http.Do(req)
	switch {
	case errors.Is(err, syscall.ECONNREFUSED):
		return nil, fmt.Errorf("no service answers at %s: start it with `widelarkd serve`, or name another with --server", d.server)
	case err != nil:
		return nil, err
	case res.StatusCode/100 == 2:
		return res, nil
	}
	defer res.Body.Close()
	return nil, problemOf(res)
}

func problemOf(res *http.Response) *Problem {
	body, _ := io.ReadAll(io.LimitReader(res.Body, 1<<20))
	var model ErrorModel
	p := &Problem{Status: res.StatusCode}
	if json.Unmarshal(body, &model) != nil || model.Detail == nil {
		p.Detail = fmt.Sprintf("The service answered %s", res.Status)
		return p
	}
	p.Detail = *model.Detail
	if model.Type != nil && *model.Type != "about:blank" {
		p.Type = *model.Type
	}
	if model.Errors == nil {
		return p
	}
	for _, e := range *model.Errors {
		var field FieldProblem
		if e.Location != nil {
			field.Path = strings.TrimPrefix(strings.TrimPrefix(strings.TrimPrefix(*e.Location, "body"), "query"), ".")
		}
		if e.Message != nil {
			field.Message = *e.Message
		}
		if value, ok := e.Value.(map[string]any); ok {
			column, _ := value["column"].(float64)
			field.Column = int(column)
			field.Fix, _ = value["fix"].(string)
		}
		p.Fields = append(p.Fields, field)
	}
	return p
}
