package object

import (
	"cmp"
	"fmt"
	"strings"

	"widelark/client"
)

// usersSaid names what refers to an object, the first few of each kind. People who are in a group are no use of it.
func usersSaid(uses []client.ObjectUse) string {
	const most = 4
	var said []string
	count := map[string]int{}
	for i, u := range uses {
		if u.Kind == "person" {
			continue
		}
		if count[u.Kind]++; count[u.Kind] <= most {
			said = append(said, fmt.Sprintf("the %s %q", u.Kind, u.Name))
		}
		if last := i == len(uses)-1 || uses[i+1].Kind != u.Kind; last && count[u.Kind] > most {
			said = append(said, fmt.Sprintf("%d more", count[u.Kind]-most))
		}
	}
	return cmp.Or(strings.Join(said, ", "), "nothing")
}
