package object

import (
	"cmp"
	"fmt"
	"strings"

	"widelark/client"
)

// usersText names the objects that refer to an object, the first few of each kind. The people in a group do not count.
func usersText(uses []client.ObjectUse) string {
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
