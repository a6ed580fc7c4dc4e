package object

import (
	"fmt"
	"strings"

	"widelark/client"
)

// Names returns the names of categories, separated by commas.
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

// From names the pack or list that a category comes from.
func From(g client.Given) string {
	switch {
	case g.Pack != nil:
		return fmt.Sprintf("%s, version %d", g.Pack.Name, g.Pack.Version)
	case g.List != nil:
		return "list " + g.List.Name
	}
	return "correction"
}
