//go:build linux

#include "textflag.h"

// relay is a signal handler (sigaction(2)) in the calling convention of C: it writes the number
// of the signal as one byte to the descriptor in ·relayTo. write(2) may be called in a handler
// (signal-safety(7)), and nothing of Go's runtime is.
TEXT ·relay(SB), NOSPLIT|NOFRAME, $0
	SUBQ $24, SP
	MOVB DI, (SP)
	MOVL ·relayTo(SB), DI
	MOVQ SP, SI
	MOVL $1, DX
	MOVL $1, AX
	SYSCALL
	ADDQ $24, SP
	RET

// restore ends a handler: rt_sigreturn(2).
TEXT ·restore(SB), NOSPLIT|NOFRAME, $0
	MOVL $15, AX
	SYSCALL
	INT  $3

// func addresses() (handler, restorer uintptr)
TEXT ·addresses(SB), NOSPLIT, $0-16
	LEAQ ·relay(SB), AX
	MOVQ AX, handler+0(FP)
	LEAQ ·restore(SB), AX
	MOVQ AX, restorer+8(FP)
	RET
