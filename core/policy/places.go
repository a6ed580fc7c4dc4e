package policy

import (
	"net/netip"
	"slices"
)

// InOnePlace reports whether all addresses of a range are in the same networks, groups and machines, and the same exceptions are for them.
func (s *Snapshot) InOnePlace(r netip.Prefix) bool {
	r = r.Masked()
	parts := func(within []netip.Prefix) bool {
		return slices.ContainsFunc(within, func(p netip.Prefix) bool { return p.Bits() > r.Bits() && r.Contains(p.Addr().Unmap()) })
	}
	d := s.config.Directory
	for i := range d.Networks {
		if parts(d.Networks[i].Ranges) {
			return false
		}
	}
	for i := range d.Groups {
		if parts(d.Groups[i].Ranges) {
			return false
		}
	}
	for i := range s.grants {
		if parts(s.grants[i].ranges) {
			return false
		}
	}
	return r.IsSingleIP() || !d.MachinesIn(r)
}
