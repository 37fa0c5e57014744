package main

import (
	"errors"
	"fmt"
	"net"
	"os"
	"strconv"
	"strings"
	"syscall"
	"time"
	"unsafe"
)

// tryAll tries what a sealed program might: each argument is a thing to do, whose end is printed.
func tryAll(things []string) {
	time.AfterFunc(30*time.Second, func() { os.Exit(8) })
	for _, thing := range things {
		verb, rest, _ := strings.Cut(thing, " ")
		var err error
		switch verb {
		case "write":
			err = os.WriteFile(rest, []byte("x"), 0o755)
		case "append":
			var f *os.File
			if f, err = os.OpenFile(rest, os.O_WRONLY|os.O_APPEND, 0); err == nil {
				f.Close()
			}
		case "remove":
			err = os.RemoveAll(rest)
		case "move":
			err = os.Rename(rest, rest+".moved")
		case "link":
			err = os.Link(rest, "hard")
		case "replace":
			if err = os.WriteFile("fresh", []byte("x"), 0o755); err == nil {
				err = os.Rename("fresh", rest)
			}
		case "chmod":
			err = os.Chmod(rest, 0o777)
		case "abstract":
			var c net.Conn
			if c, err = net.Dial("unix", "@"+rest); err == nil {
				c.Close()
			}
		case "ioctl": // on the terminal
			var f *os.File
			if f, err = os.OpenFile("/dev/tty", os.O_RDWR, 0); err != nil {
				f = os.Stdin
			}
			request, _ := strconv.ParseUint(rest, 0, 64)
			letter := [2]byte{'t', 0}
			if request == 0x541c {
				letter = [2]byte{3, 0}
			}
			if _, _, errno := syscall.Syscall(syscall.SYS_IOCTL, f.Fd(), uintptr(request), uintptr(unsafe.Pointer(&letter))); errno != 0 {
				err = errno
			} else {
				err = nil
			}
		case "key": // of the session that it was started in
			name, _ := syscall.BytePtrFromString("user")
			what, _ := syscall.BytePtrFromString(rest)
			if _, _, errno := syscall.Syscall6(syscall.SYS_REQUEST_KEY, uintptr(unsafe.Pointer(name)), uintptr(unsafe.Pointer(what)), 0, 0, 0, 0); errno != 0 {
				err = errno
			}
		case "descriptor":
			n, _ := strconv.Atoi(rest)
			_, err = syscall.Write(n, nil)
			if err == nil {
				_, err = os.Readlink("/proc/self/fd/" + rest)
			}
		default:
			err = errors.New("nothing of that kind")
		}
		if err == nil {
			fmt.Println("DONE", thing)
		} else {
			fmt.Println("no", thing+":", err)
		}
	}
	os.Exit(0)
}
