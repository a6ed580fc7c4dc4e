package revision

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"github.com/google/uuid"

	"widelark/core/policy"
	"widelark/core/ranges"
	"widelark/core/weburl"
)

// PersonBody is what is known of a person besides the name that they sign in with.
type PersonBody struct {
	FullName string `json:"fullName" maxLength:"200"`
	Mail     string `json:"mail,omitempty" maxLength:"200"`
	Key      string `json:"key,omitempty" maxLength:"400" doc:"What the file that they were imported from calls them; by it they are known again"`
	Groups   []Ref  `json:"groups"`
}

// GroupBody is the members of a group except persons, who name their groups themselves.
type GroupBody struct {
	Description string   `json:"description,omitempty" maxLength:"2000"`
	Key         string   `json:"key,omitempty" maxLength:"400" doc:"What the file that it was imported from calls it"`
	Lead        *Ref     `json:"lead,omitempty" doc:"The person who may put the group on chosen lists for a while"`
	Groups      []Ref    `json:"groups" doc:"Groups whose members are in it too"`
	Networks    []Ref    `json:"networks"`
	Machines    []Ref    `json:"machines"`
	Ranges      []string `json:"ranges" doc:"Addresses and ranges, as 10.40.9.7 or 10.40.8.0/24"`
}

// NetworkBody is the ranges of a network.
type NetworkBody struct {
	Description string   `json:"description,omitempty" maxLength:"2000"`
	Ranges      []string `json:"ranges" minItems:"1"`

	Way       policy.Way   `json:"way,omitempty" doc:"Which gates its clients meet, in order: dns, proxy, dns,proxy, icap or none; left out, those of the organisation"`
	Sends     weburl.Sight `json:"sends,omitempty" enum:"tunnel,full" doc:"On the way icap: what the proxy that asks sends of a TLS connection; left out, full"`
	Distrusts bool         `json:"distrusts,omitempty" doc:"Its clients do not trust the authority of our gates, so no TLS connection of theirs is opened"`
	Shared    bool         `json:"shared,omitempty" doc:"Many clients stand behind one of its addresses, so an address says nothing of who asks: it has no presence, opens nothing and uses no minutes"`
	SignIn    string       `json:"signIn,omitempty" enum:"unknown,always,never" doc:"Which of its clients sign in at the proxy gate: those of whom nobody is known otherwise, all, or none; left out, unknown"`
}

// NetworkWay returns how the clients of the network come to the gates.
func (b *NetworkBody) NetworkWay() policy.NetworkWay {
	way := policy.NetworkWay{Way: b.Way, SendsTunnel: b.Sends == weburl.Tunnel, Distrusts: b.Distrusts}
	if b.SignIn != "unknown" {
		way.SignIn = policy.SignIn(b.SignIn)
	}
	return way
}

// MachineBody is where a machine is.
type MachineBody struct {
	Description string `json:"description,omitempty" maxLength:"2000"`
	Address     string `json:"address"`
}

// ParseRange reads an address or a range of addresses.
func ParseRange(text string) (netip.Prefix, error) {
	text = strings.TrimSpace(text)
	if addr, err := netip.ParseAddr(text); err == nil && addr.Zone() == "" {
		return ranges.Single(addr), nil
	}
	p, err := netip.ParsePrefix(text)
	if err != nil {
		return p, fmt.Errorf("%q is neither an address nor a range, as 10.40.9.7 or 10.40.8.0/24", text)
	}
	return ranges.Canonical(p), nil
}

// printRange returns a range as it is kept: an address alone without its length.
func printRange(p netip.Prefix) string {
	if p.IsSingleIP() {
		return p.Addr().String()
	}
	return p.String()
}

func checkRanges(field string, texts []string) ([]string, error) {
	kept := []string{}
	seen := map[string]bool{}
	for i, text := range texts {
		p, err := ParseRange(text)
		if err != nil {
			return nil, &FieldError{fmt.Sprintf("%s[%d]", field, i), err.Error()}
		}
		if text = printRange(p); !seen[text] {
			seen[text] = true
			kept = append(kept, text)
		}
	}
	return kept, nil
}

// Prefixes returns ranges that were checked before.
func Prefixes(texts []string) (all []netip.Prefix) {
	for _, text := range texts {
		if p, err := ParseRange(text); err == nil {
			all = append(all, p)
		}
	}
	return all
}

// Check implements [Body].
func (b *PersonBody) Check() error {
	b.FullName, b.Mail, b.Groups = strings.TrimSpace(b.FullName), strings.TrimSpace(b.Mail), unique(b.Groups)
	return nil
}

// Refs implements [Body].
func (b *PersonBody) Refs(visit func(string, Kind, *Ref)) {
	visitAll("groups", KindGroup, b.Groups, visit)
}

// Move takes a person out of some groups and puts them into others. It reports whether anything changed.
func (b *PersonBody) Move(into, outOf []uuid.UUID) bool {
	before := slices.Clone(b.Groups)
	b.Groups = slices.DeleteFunc(b.Groups, func(ref Ref) bool { return slices.Contains(outOf, ref.ID) && !slices.Contains(into, ref.ID) })
	for _, id := range into {
		b.Groups = append(b.Groups, Ref{ID: id})
	}
	b.Groups = unique(b.Groups)
	return !slices.EqualFunc(before, b.Groups, func(x, y Ref) bool { return x.ID == y.ID })
}

// Check implements [Body].
func (b *GroupBody) Check() (err error) {
	b.Groups, b.Networks, b.Machines = unique(b.Groups), unique(b.Networks), unique(b.Machines)
	if b.Ranges, err = checkRanges("ranges", b.Ranges); err != nil {
		return err
	}
	return checkDescription(&b.Description)
}

// Refs implements [Body].
func (b *GroupBody) Refs(visit func(string, Kind, *Ref)) {
	if b.Lead != nil {
		visit("lead", KindPerson, b.Lead)
	}
	visitAll("groups", KindGroup, b.Groups, visit)
	visitAll("networks", KindNetwork, b.Networks, visit)
	visitAll("machines", KindMachine, b.Machines, visit)
}

// Check implements [Body].
func (b *NetworkBody) Check() (err error) {
	if b.Ranges, err = checkRanges("ranges", b.Ranges); err != nil {
		return err
	}
	if len(b.Ranges) == 0 {
		return &FieldError{"ranges", "a network without ranges holds nobody: name at least one, as 10.40.8.0/24"}
	}
	if b.Way != "" {
		if err := readWay(&b.Way); err != nil {
			return err
		}
	}
	if !slices.Contains([]string{"", "unknown", "always", "never"}, b.SignIn) {
		return &FieldError{"signIn", fmt.Sprintf("%q is not who signs in: there are unknown, always and never", b.SignIn)}
	}
	switch {
	case b.Sends == "":
	case b.Way != policy.ByICAP:
		return &FieldError{"sends", "this is for networks with the way icap"}
	case b.Sends != weburl.Tunnel && b.Sends != weburl.Full:
		return &FieldError{"sends", fmt.Sprintf("%q is not what a proxy sends: there are tunnel and full", b.Sends)}
	}
	return checkDescription(&b.Description)
}

// Refs implements [Body].
func (*NetworkBody) Refs(func(string, Kind, *Ref)) {}

// Check implements [Body].
func (b *MachineBody) Check() error {
	addr, err := netip.ParseAddr(strings.TrimSpace(b.Address))
	if err != nil || addr.Zone() != "" {
		return &FieldError{"address", fmt.Sprintf("%q is not an address, as 10.40.9.7", b.Address)}
	}
	b.Address = addr.Unmap().String()
	return checkDescription(&b.Description)
}

// Refs implements [Body].
func (*MachineBody) Refs(func(string, Kind, *Ref)) {}
