package language

// Expressions for the parts of a canonical URL. Each accepts slightly more than can occur, so what is proven of it holds for all URLs.
// Comparisons ignore case, so capitals are left out. Everything is ASCII, as canonical URLs are, but for FoldedPath and UnicodeName.
const (
	letter  = `[^\x00-\x20\x7f-\x{10FFFF}A-Z/:?#@\[\]\\%<>^|.]`    // of a host
	other   = `[^\x00-\x20\x7f-\x{10FFFF}A-Z/:?#@\[\]\\%<>^|.0-9]` // the same without digits
	segment = "[^/?#\\\\\"<>`{}\\x00-\\x20\\x7f-\\x{10FFFF}A-Z]"

	// Name is a host that is a name. A host whose last label is a number is an address.
	Name = `(?:` + letter + `+\.)*` + letter + `*` + other + letter + `*`
	// Host is any host: a name, or an address as text.
	Host = `(?:` + Name + `|[0-9]+(?:\.[0-9]+){3}|\[[0-9a-f:]+\])`
	// Path is a path, with its first slash.
	Path = `/(?:` + segment + `+/)*` + segment + `*`
	// Query is a query with its question mark, or nothing.
	Query = `(?:\?[^#"'<>\x00-\x20\x7f-\x{10FFFF}A-Z]*)?`
	// Port is a port with its colon, or nothing.
	Port = `(?::[1-9][0-9]{0,4})?`
	// Target is path and query.
	Target = Path + Query
	// URL is a whole canonical URL.
	URL = `https?://` + Host + Port + Target
	// Anything is every text.
	Anything = `.*`

	// FoldedPath is a path as paths are compared (see weburl.FoldPath): letters beyond ASCII stand for themselves.
	FoldedPath = `/(?:` + foldedSegment + `+/)*` + foldedSegment + `*`
	// UnicodeName is a host that is a name, in its Unicode form.
	UnicodeName = `(?:` + readLetter + `+\.)*` + readLetter + `*` + readOther + readLetter + `*`

	foldedSegment = "[^/?#\\\\\"<>`{}\\x00-\\x20\\x7fA-Z]"
	readLetter    = `[^\x00-\x20\x7fA-Z/:?#@\[\]\\%<>^|.]`
	readOther     = `[^\x00-\x20\x7fA-Z/:?#@\[\]\\%<>^|.0-9]`
)

// Anywhere returns an expression for the texts in which expr matches anywhere, letter case ignored, as regex entries do.
func Anywhere(expr string) string { return `(?s:.*)(?i:` + expr + `)(?s:.*)` }
