package object

import (
	"fmt"
	"strings"

	"widelark/client"
)

// Names writes categories as people read them.
func Names(categories []client.CategoryRef) string {
	if len(categories) == 0 {
		return "unrated"
	}
	all := make([]string, len(categories))
	for i, c := range categories {
		all[i] = c.Name
	}
	return strings.Join(all, ", ")
}

// From says which pack or list something was said by.
func From(g client.Given) string {
	switch {
	case g.Pack != nil:
		return fmt.Sprintf("%s, version %d", g.Pack.Name, g.Pack.Version)
	case g.List != nil:
		return "list " + g.List.Name
	}
	return "correction"
}
