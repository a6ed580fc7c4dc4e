package classify

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
)

// Unrated marks a URL without categories. It is not a category itself.
const Unrated = "unrated"

// Family is a class of categories.
type Family struct {
	Key      string // see [ValidKey]
	Name     string
	About    string // one sentence
	Security bool   // its categories are dangers, not contents
}

// Category is a class of sites.
type Category struct {
	Key      string // see [ValidKey]
	Family   string // the key of its family
	Name     string
	About    string // one sentence
	Keywords []string
	Example  string // a host that is in it; "" for none
}

// Taxonomy is families with their categories, in the order in which they are shown.
type Taxonomy struct {
	Families   []Family
	Categories []Category
}

// MaxKey is the longest key, in bytes.
const MaxKey = 40

// ValidKey reports whether a text may name a category or a family for good: letters a to z, digits and single hyphens between
// them. Names change; keys are what files, rules and corrections hold.
func ValidKey(key string) bool {
	if len(key) > MaxKey || key == Unrated {
		return false
	}
	for part := range strings.SplitSeq(key, "-") {
		if part == "" || strings.Trim(part, "abcdefghijklmnopqrstuvwxyz0123456789") != "" {
			return false
		}
	}
	return true
}

// Check validates a taxonomy.
func (t Taxonomy) Check() error {
	families, categories := map[string]bool{}, map[string]bool{}
	for i, f := range t.Families {
		switch at := fmt.Sprintf("families[%d]", i); {
		case !ValidKey(f.Key):
			return fmt.Errorf("%s: the key %q is not made of a-z, 0-9 and single hyphens", at, f.Key)
		case families[f.Key]:
			return fmt.Errorf("%s: the key %q is there twice", at, f.Key)
		case strings.TrimSpace(f.Name) == "":
			return fmt.Errorf("%s: %q has no name", at, f.Key)
		}
		families[f.Key] = true
	}
	for i, c := range t.Categories {
		switch at := fmt.Sprintf("categories[%d]", i); {
		case !ValidKey(c.Key):
			return fmt.Errorf("%s: the key %q is not made of a-z, 0-9 and single hyphens", at, c.Key)
		case categories[c.Key]:
			return fmt.Errorf("%s: the key %q is there twice", at, c.Key)
		case strings.TrimSpace(c.Name) == "":
			return fmt.Errorf("%s: %q has no name", at, c.Key)
		case !families[c.Family]:
			return fmt.Errorf("%s: %q is in a family %q that is not there", at, c.Key, c.Family)
		}
		categories[c.Key] = true
	}
	return nil
}

// Merge returns the families and categories of all taxonomies. If several have a key, the first defines it.
func Merge(all ...Taxonomy) Taxonomy {
	var merged Taxonomy
	families, categories := map[string]bool{}, map[string]bool{}
	for _, t := range all {
		for _, f := range t.Families {
			if !families[f.Key] {
				families[f.Key] = true
				merged.Families = append(merged.Families, f)
			}
		}
		for _, c := range t.Categories {
			if !categories[c.Key] {
				categories[c.Key] = true
				merged.Categories = append(merged.Categories, c)
			}
		}
	}
	return merged
}

// Category returns the category with a key.
func (t Taxonomy) Category(key string) (Category, bool) {
	at := slices.IndexFunc(t.Categories, func(c Category) bool { return c.Key == key })
	if at < 0 {
		return Category{}, false
	}
	return t.Categories[at], true
}

// Family returns the family with a key.
func (t Taxonomy) Family(key string) (Family, bool) {
	at := slices.IndexFunc(t.Families, func(f Family) bool { return f.Key == key })
	if at < 0 {
		return Family{}, false
	}
	return t.Families[at], true
}

// Find returns the categories that a text leads to, the likeliest first: by name or key, then keyword, then description. Every
// word of the text has to be there somewhere, letter case aside. An empty text leads to all.
func (t Taxonomy) Find(text string) []Category {
	words := strings.Fields(strings.ToLower(text))
	type found struct {
		Category
		far int
	}
	var all []found
	for _, c := range t.Categories {
		family, _ := t.Family(c.Family)
		places := []string{c.Name + " " + c.Key, strings.Join(c.Keywords, " "), family.Name, c.About + " " + c.Example}
		far, missing := 0, false
		for _, word := range words {
			at := slices.IndexFunc(places, func(place string) bool { return strings.Contains(strings.ToLower(place), word) })
			missing = missing || at < 0
			far = max(far, at)
		}
		if missing {
			continue
		}
		if len(words) > 0 && strings.HasPrefix(strings.ToLower(c.Name), words[0]) {
			far--
		}
		all = append(all, found{c, far})
	}
	slices.SortStableFunc(all, func(a, b found) int { return cmp.Compare(a.far, b.far) })
	categories := make([]Category, len(all))
	for i, f := range all {
		categories[i] = f.Category
	}
	return categories
}
