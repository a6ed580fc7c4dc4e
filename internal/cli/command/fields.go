package command

import "fmt"

// Match returns an If-Match header for an object at a version (RFC 9110, section 13.1.1).
func Match(version int64) *string {
	tag := fmt.Sprintf(`"%d"`, version)
	return &tag
}

// OrEmpty returns the text that a pointer points to; "" for nil.
func OrEmpty[T ~string](p *T) string {
	if p == nil {
		return ""
	}
	return string(*p)
}

// Deref returns the value that a pointer points to; the zero value for nil.
func Deref[T any](p *T) T {
	var zero T
	if p == nil {
		return zero
	}
	return *p
}

// Optional returns a pointer to a text; nil for "", which leaves the field out.
func Optional[T ~string](text string) *T {
	if text == "" {
		return nil
	}
	value := T(text)
	return &value
}
