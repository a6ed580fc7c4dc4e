package memory

import (
	"syscall"
	"unsafe"
)

// hugePage is the size of a huge page, in bytes, on all machines where Go and Linux agree on one.
const hugePage = 2 << 20

// InHugePages asks the kernel to keep memory that was just made, and not yet written to, in huge pages, and returns it. A look at a place
// among tens of megabytes costs half as much again where the processor has to look up its page first. The kernel may refuse; that
// changes nothing else. What is smaller than two pages is left as it is.
func InHugePages[T Plain](fresh []T) []T {
	size := uintptr(cap(fresh)) * unsafe.Sizeof(*new(T))
	if size < 2*hugePage {
		return fresh
	}
	all := unsafe.Slice((*byte)(unsafe.Pointer(unsafe.SliceData(fresh))), size)
	from := -uintptr(unsafe.Pointer(&all[0])) % hugePage
	_ = syscall.Madvise(all[from:from+(size-from)/hugePage*hugePage], syscall.MADV_HUGEPAGE)
	return fresh
}
