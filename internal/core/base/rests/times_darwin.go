package rests

import (
	"os"
	"syscall"
)

// Self is this program's own file.
var Self, _ = os.Executable()

func times(st *syscall.Stat_t) (mod, change int64) { return st.Mtimespec.Nano(), st.Ctimespec.Nano() }
