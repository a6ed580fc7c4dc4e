package match

import "widelark/core/pattern"

// EachHost gives every host that an entry names literally, whole or with what is below it; a host may come more than once. Entries for pages name a host, too.
func (x *Index) EachHost(each func(host string)) {
	for _, p := range x.parts {
		for n := uint32(0); int(n)*refUnit < len(p.refs); {
			r := p.ref(n)
			each(string(r.name))
			n += r.size()
		}
		for i := range p.kept {
			if host, _ := HostOf(p.kept[i].entry.Pattern); host != "" {
				each(host)
			}
		}
	}
}

// HostOf returns the host that a pattern names literally, "" for none, and whether it covers nothing but that host, what is below it, and addresses.
func HostOf(p pattern.Pattern) (host string, nothingElse bool) {
	switch {
	case !p.IsValid(), p.Prefix().IsValid():
		return "", true
	case p.EveryHost(), p.EveryEnding(), p.IsGlob(), p.Kind() == pattern.Regex, p.Kind() == pattern.Word:
		return "", false
	}
	return p.Name(), p.Name() != ""
}

// Sort is a sort of entries by what has to be seen to tell whether they cover a request.
type Sort string

// The sorts of entries of which a name alone does not tell everything.
const (
	SortPages   Sort = "pages"
	SortPorts   Sort = "schemes and ports"
	SortWords   Sort = "words"
	SortRegexes Sort = "regexes"
	SortGlobs   Sort = "globs, and names before any ending"
	SortRanges  Sort = "addresses"
)

// Sorts lists every sort.
var Sorts = []Sort{SortPages, SortPorts, SortWords, SortRegexes, SortGlobs, SortRanges}

// EachSort gives, for every entry that is in use and is more than a host, its list, by its position in [Index.Lists], and its sort.
func (x *Index) EachSort(each func(list int32, sort Sort)) {
	for _, p := range x.parts {
		for i := range p.kept {
			k := &p.kept[i]
			if _, gone := p.gone[k.id]; gone || k.entry.Off {
				continue
			}
			if sort := sortOf(k.entry.Pattern); sort != "" {
				each(p.listOf[k.list], sort)
			}
		}
	}
}

func sortOf(p pattern.Pattern) Sort {
	scheme, port := p.SchemeAndPort()
	switch {
	case p.Kind() == pattern.Word:
		return SortWords
	case p.Kind() == pattern.Regex:
		return SortRegexes
	case p.Prefix().IsValid():
		return SortRanges
	case p.FoldedPath() != "" || p.ExactPage() || len(p.Params()) > 0:
		return SortPages
	case scheme != "" || port != 0:
		return SortPorts
	case p.IsGlob() || p.EveryEnding() || p.EveryHost():
		return SortGlobs
	}
	return ""
}
