package command

import "fmt"

// Match makes an If-Match header for an object of that version.
func Match(version int64) *string {
	tag := fmt.Sprintf(`"%d"`, version)
	return &tag
}

// OrEmpty returns what a pointer points to; "" for nil.
func OrEmpty[T ~string](p *T) string {
	if p == nil {
		return ""
	}
	return string(*p)
}

// Deref returns what a pointer points to; the zero value for nil.
func Deref[T any](p *T) T {
	var zero T
	if p == nil {
		return zero
	}
	return *p
}

// Optional returns a pointer to a text; nil for "", which is how the API leaves a field out.
func Optional[T ~string](text string) *T {
	if text == "" {
		return nil
	}
	value := T(text)
	return &value
}
