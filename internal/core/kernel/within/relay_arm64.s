//go:build linux

#include "textflag.h"

// relay is a signal handler (sigaction(2)) in the calling convention of C: it writes the number
// of the signal as one byte to the descriptor in ·relayTo. write(2) may be called in a handler
// (signal-safety(7)), and nothing of Go's runtime is.
TEXT ·relay(SB), NOSPLIT|NOFRAME, $0
	SUB   $16, RSP
	MOVB  R0, (RSP)
	MOVWU ·relayTo(SB), R0
	MOVD  RSP, R1
	MOVD  $1, R2
	MOVD  $64, R8
	SVC
	ADD   $16, RSP
	RET

// restore ends a handler: rt_sigreturn(2).
TEXT ·restore(SB), NOSPLIT|NOFRAME, $0
	MOVD $139, R8
	SVC
	BRK  $0

// func addresses() (handler, restorer uintptr)
TEXT ·addresses(SB), NOSPLIT, $0-16
	MOVD $·relay(SB), R0
	MOVD R0, handler+0(FP)
	MOVD $·restore(SB), R0
	MOVD R0, restorer+8(FP)
	RET
