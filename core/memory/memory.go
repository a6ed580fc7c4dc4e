// Package memory lays out large tables in memory. It is the only package of the core that uses unsafe and calls the kernel; it has no state.
package memory

import "unsafe"

// Bytes returns the bytes of a text, without a copy. The caller must not change them.
func Bytes(text string) []byte { return unsafe.Slice(unsafe.StringData(text), len(text)) }

// Plain is the types that memory is asked for: none holds a pointer.
type Plain interface{ ~byte | ~uint64 | ~[8]uint64 }
