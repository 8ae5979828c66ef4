package registry

import (
	"bufio"
	"fmt"
	"io"
	"os"
	"strconv"
	"strings"
	"syscall"
	"unsafe"
)

// adviseHuge asks the system to put the heap into huge pages, as far as it grows from now on. A tick looks at a little
// of what each client has, all over the heap: with pages of 4 KiB a good part of its time goes into finding where they
// are. Go's runtime asks for none.
func adviseHuge() error {
	maps, err := os.Open("/proc/self/maps")
	if err != nil {
		return fmt.Errorf("find the heap: %w", err)
	}
	defer maps.Close()
	something := new(int) // on the heap or on a goroutine's stack, which stands there too
	from, to, err := mappingOf(maps, uintptr(unsafe.Pointer(something)))
	if err != nil {
		return err
	}
	const hugePage = 14 // MADV_HUGEPAGE
	if _, _, errno := syscall.Syscall(syscall.SYS_MADVISE, from, to-from, hugePage); errno != 0 {
		return fmt.Errorf("ask for huge pages from %x to %x: %w", from, to, errno)
	}
	return nil
}

// mappingOf finds the mapping that an address is in, among the lines of a maps file of proc(5).
func mappingOf(maps io.Reader, address uintptr) (from, to uintptr, err error) {
	lines := bufio.NewScanner(maps)
	for lines.Scan() {
		span, _, _ := strings.Cut(lines.Text(), " ")
		first, after, _ := strings.Cut(span, "-")
		a, err := strconv.ParseUint(first, 16, 64)
		if err != nil {
			return 0, 0, fmt.Errorf(
				"find the mapping of %x: %q begins with no span of addresses", address, lines.Text(),
			)
		}
		b, err := strconv.ParseUint(after, 16, 64)
		if err != nil {
			return 0, 0, fmt.Errorf(
				"find the mapping of %x: %q begins with no span of addresses", address, lines.Text(),
			)
		}
		if uintptr(a) <= address && address < uintptr(b) {
			return uintptr(a), uintptr(b), nil
		}
	}
	return 0, 0, fmt.Errorf("find the mapping of %x: it is in none", address)
}
