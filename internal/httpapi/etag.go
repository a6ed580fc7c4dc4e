package httpapi

import (
	"strconv"
	"strings"

	"github.com/danielgtaylor/huma/v2"
)

// etag writes an object's version as an entity tag (RFC 9110, section 8.8.3).
func etag(version int64) string { return `"` + strconv.FormatInt(version, 10) + `"` }

// fromDirectory is the version that nothing has which can be edited.
const fromDirectory = -1

// MustMatch is the header that is required of edits of what others may edit, too.
type MustMatch struct {
	IfMatch string `header:"If-Match" doc:"The ETag of the object as it was last fetched; * edits whatever is there"`
}

// version returns the version that the caller saw; 0 means any.
func (m MustMatch) version() (int64, error) {
	if m.IfMatch == "" {
		return 0, huma.NewError(428, "An edit needs the header If-Match with the ETag of what it edits, so that nobody's change is lost unseen.")
	}
	return MayMatch(m).version()
}

// MayMatch is the header for edits that only add, and so lose nothing.
type MayMatch struct {
	IfMatch string `header:"If-Match" doc:"The ETag of the object as it was last fetched; left out, the edit is made to whatever is there"`
}

func (m MayMatch) version() (int64, error) {
	if m.IfMatch == "" || m.IfMatch == "*" {
		return 0, nil
	}
	version, err := strconv.ParseInt(strings.Trim(strings.TrimPrefix(m.IfMatch, "W/"), `"`), 10, 64)
	if err == nil && version == 0 { // of what directories say, which no edit changes
		return fromDirectory, nil
	}
	if err != nil || version < 0 {
		return 0, huma.Error412PreconditionFailed("The header If-Match holds no ETag of ours.")
	}
	return version, nil
}
