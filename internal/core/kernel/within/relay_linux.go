package within

import (
	"syscall"
	"unsafe"
)

// relayTo is the descriptor that signals are relayed to.
//
//lint:ignore U1000 relay_amd64.s and relay_arm64.s read it
var relayTo int32

// addresses are where the handler and what ends it begin. Their values as functions of Go would
// be those of wrappers for Go's own calling convention.
func addresses() (handler, restorer uintptr)

const (
	saOnStack  = 0x08000000
	saRestart  = 0x10000000
	saRestorer = 0x04000000
)

// relayed gives a descriptor from which the numbers of signals are read as they come to this process.
// It takes them from the runtime, for good: os/signal, which would do it, is initialised after
// nearly all libraries.
func relayed(signals ...syscall.Signal) (read int, err error) {
	var pipe [2]int
	if err := syscall.Pipe2(pipe[:], syscall.O_CLOEXEC); err != nil {
		return -1, err
	}
	relayTo = int32(pipe[1]) // both stay open for as long as this process lives
	handler, restorer := addresses()
	for _, s := range signals {
		action := struct{ handler, flags, restorer, mask uintptr }{handler, saOnStack | saRestart | saRestorer, restorer, 0}
		if _, _, errno := syscall.RawSyscall6(syscall.SYS_RT_SIGACTION, uintptr(s), uintptr(unsafe.Pointer(&action)), 0, 8, 0, 0); errno != 0 {
			return -1, errno
		}
	}
	return pipe[0], nil
}
