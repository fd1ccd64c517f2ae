package table

import (
	"unsafe"

	"golang.org/x/sys/unix"
)

// preferLargePages asks the system to back memory that was not used yet with large pages.
// It need not do so.
func preferLargePages(rows []HashedRow) {
	const page = 4096
	start := uintptr(unsafe.Pointer(unsafe.SliceData(rows)))
	bytes := unsafe.Slice((*byte)(unsafe.Pointer(unsafe.SliceData(rows))), len(rows)*int(unsafe.Sizeof(rows[0])))
	before := int((page - start%page) % page)
	if whole := (len(bytes) - before) / page * page; whole > 0 {
		_ = unix.Madvise(bytes[before:before+whole], unix.MADV_HUGEPAGE)
	}
}
