package memory

import (
	"syscall"
	"unsafe"
)

// hugePage is the size of a huge page, in bytes, on all machines where Go and Linux agree on one.
const hugePage = 2 << 20

// InHugePages asks the kernel to back fresh memory with huge pages, and returns it. Precondition: nothing has been written to it. In a table of
// tens of megabytes a random read costs half as much again if the processor has to look up its page first. The kernel may refuse, which changes
// nothing else. Memory smaller than two huge pages is left alone.
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
