package kept

import "syscall"

func times(st *syscall.Stat_t) (mod, change int64) { return st.Mtim.Nano(), st.Ctim.Nano() }
