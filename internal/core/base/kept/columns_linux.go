package kept

import (
	"syscall"
	"unsafe"
)

// Columns is how wide the terminal is that a descriptor leads to, in characters; -1 where it
// leads to none (TIOCGWINSZ in ioctl_tty(2)).
func Columns(fd int) int {
	var size struct{ rows, columns, x, y uint16 }
	if _, _, errno := syscall.Syscall(syscall.SYS_IOCTL, uintptr(fd), syscall.TIOCGWINSZ, uintptr(unsafe.Pointer(&size))); errno != 0 {
		return -1
	}
	return int(size.columns)
}
