package weburl

// Sight says which parts of a request's URL a gate sees.
type Sight string

// The sights.
const (
	Name   Sight = "name"   // the host alone, as a resolver sees it
	Tunnel Sight = "tunnel" // host and port, and that it is https, as a proxy sees a connection that it does not open
	Full   Sight = "full"   // the whole URL
)

// Sights lists every sight, the least first.
var Sights = []Sight{Name, Tunnel, Full}
