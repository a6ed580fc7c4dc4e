package packfile

import (
	"fmt"
	"slices"
	"strings"

	"widelark/core/classify"
	"widelark/core/pattern"
)

// Site is one line of sites.csv: an entry with its categories.
type Site struct {
	Entry      string          // in the form in which entries are compared; see [pattern.Pattern.Key]
	Pattern    pattern.Pattern // not valid if Plain
	Plain      bool            // Entry is a host name and nothing else
	Categories string          // see [classify.SetID]; "" in a delta for an entry that is removed
}

// kinds are the kinds of patterns that a pack may hold.
var kinds = []pattern.Kind{pattern.Site, pattern.Host, pattern.Below, pattern.PageTree, pattern.Page, pattern.Address}

// readEntry reads an entry, and refuses one that a pack must not hold.
func readEntry(text string) (Site, error) {
	if _, plain := pattern.PlainSite(text); plain {
		return Site{Entry: text, Plain: true}, nil
	}
	entry, err := pattern.Parse(text)
	switch p := entry.Pattern; {
	case err != nil:
		return Site{}, err
	case !slices.Contains(kinds, p.Kind()) || p.IsGlob() || p.EveryEnding() || p.Name() == "" && !p.Prefix().IsValid() || strings.Contains(p.FoldedPath(), "*"):
		return Site{}, fmt.Errorf("%q is %s; packs hold sites, hosts, pages and addresses without wildcards", text, entry.Kind())
	case entry.CarveOut || entry.Off || entry.Note != "" || !entry.Until.IsZero():
		return Site{}, fmt.Errorf("%q has more to it than a pattern", text)
	default:
		return Site{Entry: p.Key(), Pattern: p}, nil
	}
}

// readCategories checks the categories of a line and returns them as a set.
func readCategories(text string, known map[string]bool, sets map[string]string) (string, error) {
	if set, ok := sets[text]; ok {
		return set, nil
	}
	keys := strings.Fields(text)
	for _, key := range keys {
		if !known[key] {
			return "", fmt.Errorf("the category %q is not in the taxonomy", key)
		}
	}
	if len(keys) == 0 {
		return "", fmt.Errorf("no category is given")
	}
	set := classify.SetID(keys)
	sets[text] = set
	return set, nil
}
