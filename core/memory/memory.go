// Package memory says how large tables lie in memory. It is the only package of the core that goes round the language's types and asks
// the kernel for something; it reads and keeps nothing.
package memory

import "unsafe"

// Bytes returns the bytes of a text, without a copy. The caller must not change them.
func Bytes(text string) []byte { return unsafe.Slice(unsafe.StringData(text), len(text)) }

// Plain is memory without pointers.
type Plain interface{ ~byte | ~uint64 | ~[8]uint64 }
