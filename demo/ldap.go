package demo

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"net"
	"slices"
	"strings"
	"sync/atomic"
	"time"

	"github.com/go-ldap/ldif"
	"github.com/google/uuid"
	"github.com/jimlambrt/gldap"

	"widelark/client"
)

// The hospital's directory, as the demo has it read.
const (
	DirectoryName   = "Staff"
	directoryReader = "cn=reader," + suffix
)

// joiners are in the second state of the hospital's directory, and leavers are not.
var (
	joiners = []somebody{
		{"ennis.thrift", "Ennis Thrift", []string{"Ward nurses"}},
		{"maren.usk", "Maren Usk", []string{"Ward nurses", "Night ward"}},
		{"toby.ormsby", "Toby Ormsby", []string{"Doctors"}},
		{"hedda.plover", "Hedda Plover", []string{"Trainees"}},
		{"cato.linden", "Cato Linden", []string{"Trainees"}},
		{"orla.wharram", "Orla Wharram", []string{"Front desk"}},
	}
	leavers = []string{"rae.scar", "hal.birch", "wren.tolland"}
	married = map[string]somebody{"noor.hale": {uid: "noor.garth", name: "Noor Garth"}}
)

// DirectoryServer is a stand-in of the hospital's LDAP directory (RFC 4511): the people of the directory's file, with what identifies them for good (RFC 4530). It has two states.
type DirectoryServer struct {
	URL    string
	server *gldap.Server
	later  atomic.Bool
	ended  chan error
}

// StartDirectory starts the stand-in on a free port of loopback.
func StartDirectory() (*DirectoryServer, error) {
	listener, err := net.Listen("tcp", "127.0.0.1:0") // the library listens by itself
	if err != nil {
		return nil, err
	}
	at := listener.Addr().String()
	_ = listener.Close()
	d := &DirectoryServer{URL: "ldap://" + at, ended: make(chan error, 1)}
	states := [2][]*gldap.Entry{}
	for i := range states {
		if states[i], err = entriesOf(i == 1); err != nil {
			return nil, err
		}
	}
	if d.server, err = gldap.NewServer(); err != nil {
		return nil, err
	}
	mux, err := gldap.NewMux()
	if err != nil {
		return nil, err
	}
	err = errors.Join(mux.Bind(func(w *gldap.ResponseWriter, r *gldap.Request) {
		code := gldap.ResultInvalidCredentials
		if m, err := r.GetSimpleBindMessage(); err == nil && m.UserName == directoryReader && string(m.Password) == Password {
			code = gldap.ResultSuccess
		}
		_ = w.Write(r.NewBindResponse(gldap.WithResponseCode(code)))
	}), mux.Search(func(w *gldap.ResponseWriter, r *gldap.Request) {
		state := states[0]
		if d.later.Load() {
			state = states[1]
		}
		for _, e := range state {
			attributes := map[string][]string{}
			for _, a := range e.Attributes {
				attributes[a.Name] = a.Values
			}
			_ = w.Write(r.NewSearchResponseEntry(e.DN, gldap.WithAttributes(attributes)))
		}
		_ = w.Write(r.NewSearchDoneResponse(gldap.WithResponseCode(gldap.ResultSuccess)))
	}), d.server.Router(mux))
	if err != nil {
		return nil, err
	}
	go func() { d.ended <- d.server.Run(at) }()
	for wait := 0; !d.server.Ready(); wait++ {
		select {
		case err := <-d.ended:
			return nil, fmt.Errorf("the directory's stand-in cannot listen: %w", err)
		case <-time.After(10 * time.Millisecond):
		}
		if wait > 500 {
			return nil, errors.New("the directory's stand-in does not come up")
		}
	}
	return d, nil
}

// GoOn puts the server into its second state: six people have joined, three have left, and one has married.
func (d *DirectoryServer) GoOn() { d.later.Store(true) }

// Stop ends the server.
func (d *DirectoryServer) Stop() { _ = d.server.Stop() }

// entriesOf returns the entries of a state of the directory.
func entriesOf(later bool) (entries []*gldap.Entry, err error) {
	people := everybody()
	if later {
		people = slices.DeleteFunc(people, func(p somebody) bool { return slices.Contains(leavers, p.uid) })
		people = append(people, joiners...)
	}
	stable := map[string]string{} // by distinguished name
	for i, p := range people {
		key := uuid.NewSHA1(uuid.Nil, []byte(p.uid)).String()
		if as, ok := married[p.uid]; ok && later {
			people[i].uid, people[i].name = as.uid, as.name
		}
		stable["uid="+people[i].uid+",ou=people,"+suffix] = key
	}
	var parsed ldif.LDIF
	if err := ldif.Unmarshal(bytes.NewReader(ldifOf(people)), &parsed); err != nil {
		return nil, err
	}
	for _, one := range parsed.Entries {
		e := one.Entry
		attributes := map[string][]string{"entryUUID": {stable[e.DN]}}
		if stable[e.DN] == "" {
			attributes["entryUUID"] = []string{uuid.NewSHA1(uuid.Nil, []byte(e.DN)).String()}
		}
		for _, a := range e.Attributes {
			attributes[a.Name] = a.Values
		}
		entries = append(entries, gldap.NewEntry(e.DN, attributes))
	}
	return entries, nil
}

// loadDirectory has the hospital's directory read, and its groups held by those of the draft. What it says later waits for somebody.
func loadDirectory(ctx context.Context, api *client.ClientWithResponses, at *DirectoryServer) error {
	if at == nil {
		return nil
	}
	there, err := api.GetDirectoriesWithResponse(ctx)
	if err != nil || len(there.JSON200.Directories) > 0 { // of a load that was interrupted
		return errors.Join(err, findDirectory(ctx, api, at))
	}
	base, bind, hold := suffix, directoryReader, true
	password := Password
	made, err := api.AddDirectoryWithResponse(ctx, client.NewDirectoryInputBody{Name: DirectoryName, Kind: "ldap", URL: &at.URL, Base: &base, Bind: &bind, Password: &password, Hold: &hold})
	if err != nil {
		return err
	}
	if _, err := api.SyncDirectoryWithResponse(ctx, made.JSON201.ID, nil); err != nil {
		return err
	}
	found, err := api.GetGroupsWithResponse(ctx, nil)
	if err != nil {
		return err
	}
	theirs := map[string]client.Ref{}
	for _, g := range found.JSON200.Items {
		if g.Directory != nil {
			theirs[g.Name] = client.Ref{ID: g.ID}
		}
	}
	for _, g := range found.JSON200.Items {
		ref, ok := theirs[fmt.Sprintf("%s (%s)", g.Name, DirectoryName)]
		if !ok {
			continue
		}
		tag := fmt.Sprintf(`"%d"`, g.Version)
		edit := client.GroupInput{Name: g.Name, Description: g.Description, Key: g.Key, Lead: g.Lead, Groups: append(g.Groups, ref), Networks: g.Networks, Machines: g.Machines, Ranges: g.Ranges}
		if _, err := api.PutGroupWithResponse(ctx, g.ID, &client.PutGroupParams{IfMatch: &tag}, edit); err != nil {
			return err
		}
	}
	return nil
}

// handOver hands the people over to the hospital's directory, once its groups are live, and has it read in its second state, which waits.
func handOver(ctx context.Context, api *client.ClientWithResponses, at *DirectoryServer) error {
	if at == nil {
		return nil
	}
	found, err := api.GetDirectoriesWithResponse(ctx)
	if err != nil || len(found.JSON200.Directories) == 0 {
		return err
	}
	id := found.JSON200.Directories[0].ID
	if _, err := api.AdoptDirectoryWithResponse(ctx, id, nil); err != nil {
		return err
	}
	at.GoOn()
	_, err = api.SyncDirectoryWithResponse(ctx, id, nil)
	return err
}

// findDirectory tells the service where the hospital's directory is by now.
func findDirectory(ctx context.Context, api *client.ClientWithResponses, at *DirectoryServer) error {
	if at == nil {
		return nil
	}
	at.GoOn()
	found, err := api.GetDirectoriesWithResponse(ctx)
	if err != nil {
		return err
	}
	password := Password
	for _, d := range found.JSON200.Directories {
		if d.Name == DirectoryName && strings.HasPrefix(d.URL, "ldap://127.0.0.1:") {
			_, err = api.EditDirectoryWithResponse(ctx, d.ID, client.EditDirectoryInputBody{URL: &at.URL, Password: &password})
		}
	}
	return err
}
