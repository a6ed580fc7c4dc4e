package directories

import (
	"cmp"
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"widelark/internal/peoplefile"
)

// user is what is used of a user's attributes (RFC 7643, section 4.1).
type user struct {
	UserName    string
	DisplayName string
	Name        struct{ Formatted, GivenName, FamilyName string }
	Active      *bool
	Emails      []struct {
		Value   string
		Primary bool
	}
}

// group is what is used of a group's attributes (RFC 7643, section 4.2).
type group struct {
	DisplayName string
	Members     []struct{ Value string }
}

// FromResources returns the people and groups that programs have sent. Who is not active is nobody.
func FromResources(sent []Resource) (f peoplefile.File, err error) {
	sent = slices.Clone(sent)
	slices.SortFunc(sent, func(a, b Resource) int {
		return cmp.Or(a.MadeAt.Compare(b.MadeAt), strings.Compare(a.ID.String(), b.ID.String()))
	})
	members := map[string][]string{} // groups by ids of their members
	for _, r := range sent {
		key := r.ID.String()
		switch r.Kind {
		case User:
			var u user
			if err := json.Unmarshal(r.Body, &u); err != nil {
				f.Left = append(f.Left, fmt.Sprintf("the user %s cannot be read: %s", key, err))
				continue
			}
			if u.Active != nil && !*u.Active {
				continue
			}
			p := peoplefile.Person{Key: key, Stable: key, Name: u.UserName, FullName: cmp.Or(u.DisplayName, u.Name.Formatted, strings.TrimSpace(u.Name.GivenName+" "+u.Name.FamilyName))}
			for i, mail := range u.Emails {
				if i == 0 || mail.Primary {
					p.Mail = mail.Value
				}
			}
			f.People = append(f.People, p)
		case UserGroup:
			var g group
			if err := json.Unmarshal(r.Body, &g); err != nil {
				f.Left = append(f.Left, fmt.Sprintf("the group %s cannot be read: %s", key, err))
				continue
			}
			f.Groups = append(f.Groups, peoplefile.Group{Key: key, Stable: key, Name: g.DisplayName})
			for _, m := range g.Members {
				if m.Value != key && !slices.Contains(members[m.Value], key) {
					members[m.Value] = append(members[m.Value], key)
				}
			}
		}
	}
	for i := range f.People {
		f.People[i].Groups = members[f.People[i].Key]
	}
	for i := range f.Groups {
		f.Groups[i].Within = members[f.Groups[i].Key]
	}
	return f, nil
}
