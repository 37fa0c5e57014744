//go:build !linux

package peer

import "syscall"

// looker cannot look here: whoever connects counts as the user's own login.
type looker struct{ door string }

func (l *looker) answer(*question) Peer {
	return Peer{Login: true, Files: true, User: syscall.Getuid()}
}

// Help does nothing here: no helper is started.
func Help([]string) {}
