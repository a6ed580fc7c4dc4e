package standing

import (
	"slices"

	"golang.org/x/net/publicsuffix"

	"widelark/core/pattern"
	"widelark/internal/access"
)

// ReachOf returns how much some entries open: the reach of the widest.
func ReachOf(entries []pattern.Entry) access.Reach {
	all := access.Reaches()
	widest := 0
	for _, e := range entries {
		widest = max(widest, slices.Index(all, reachOf(e.Pattern)))
	}
	return all[widest]
}

func reachOf(p pattern.Pattern) access.Reach {
	suffix, _ := publicsuffix.PublicSuffix(p.Name())
	single := p.Prefix().IsValid() && p.Prefix().IsSingleIP()
	switch {
	case !single && (p.Name() == "" || p.EveryHost() || p.EveryEnding() || p.IsGlob()):
		return access.Everything
	case !single && suffix == p.Name() && p.Scope() != pattern.Only: // whoever registered a name there
		return access.Everything
	case p.FoldedPath() != "" && p.Kind() != pattern.PathGlob: // which may hold for all paths
		return access.Page
	case single || p.Scope() == pattern.Only:
		return access.Host
	}
	return access.Site
}
