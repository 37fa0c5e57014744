// Package peer finds out which process is at the other end of a connection on this machine, and what
// that process sees of it.
//
// A user id does not tell a person's browser from a program that the same person keeps in a sealed
// root: both have it. Namespaces do (namespaces(7)). So the process behind the socket is looked for, and
// its namespaces are compared with those of a login. What cannot be found out counts as a stranger.
//
// A supervisor of an ordinary user lives in a user namespace of its own, from where the kernel shows
// nothing of processes outside (ptrace(2), "Ptrace access mode checking"). It asks a helper: this same
// program, started beside it in the namespaces of the login, which does nothing else and ends with it.
package peer

import (
	"errors"
	"os"
	"sync"
	"syscall"
)

// Peer is who is at the other end of a connection. The zero value is somebody of whom nothing is known.
type Peer struct {
	Pid   int  // 0: not known
	User  int  // -1: not known
	Login bool // it is in the user, pid and mount namespaces of a login of this user
	Files bool // it is in the pid and mount namespaces of a login of this user
	Seal  bool // it runs in a sealed view
	Door  bool // its view shows the file that lets it ask for names
}

// HelperName is the argv[0] under which this program is the helper; argv[1] is the door's path, and
// descriptor 3 is where it is asked.
const HelperName = "trammel-peers"

// helperFd is where a supervisor finds its helper.
const helperFd = 3

// Sizes of a question and of an answer.
const (
	questionSize = 44
	answerSize   = 12
)

// Kinds of question.
const (
	byAddress = 1
	byProcess = 2
)

// What an answer says, as bits.
const (
	isLogin = 1 << iota
	isFiles
	isSeal
	isDoor
)

// Looker finds out who is at the other end.
type Looker struct {
	door string

	mu   sync.Mutex
	help *os.File // nil: this process looks by itself
	self looker
}

// Open makes a looker. door is the file that a view shows which may ask for names. helped says that
// descriptor 3 leads to a helper.
func Open(door string, helped bool) *Looker {
	l := &Looker{door: door, self: looker{door: door}}
	if helped {
		syscall.CloseOnExec(helperFd)
		l.help = os.NewFile(helperFd, "helper")
	}
	return l
}

// ErrUnknown means that the helper does not answer.
var ErrUnknown = errors.New("it cannot be told who is at the other end")

// Address is one end of a TCP connection.
type Address struct {
	IP   [16]byte // an IPv4 address is in the first four bytes
	Six  bool     // it is an IPv6 address
	Port uint16
}

// OfConnection is who is at the other end of a connection that was accepted: there is the address
// that it came from, here the one that it came to.
func (l *Looker) OfConnection(there, here Address) (Peer, error) {
	var q question
	q[0] = byAddress
	if there.Six {
		q[1] = 1
	}
	copy(q[2:], there.IP[:])
	q[18], q[19] = byte(there.Port>>8), byte(there.Port)
	copy(q[20:], here.IP[:])
	q[36], q[37] = byte(here.Port>>8), byte(here.Port)
	return l.ask(&q)
}

// OfProcess is what a process sees of this machine, whose number the kernel told (SO_PEERCRED in unix(7)).
func (l *Looker) OfProcess(pid int) (Peer, error) {
	var q question
	q[0] = byProcess
	putNumber(q[38:], pid)
	return l.ask(&q)
}

type question [questionSize]byte

func putNumber(to []byte, n int) {
	to[0], to[1], to[2], to[3] = byte(n), byte(n>>8), byte(n>>16), byte(n>>24)
}

func number(from []byte) int {
	return int(int32(uint32(from[0]) | uint32(from[1])<<8 | uint32(from[2])<<16 | uint32(from[3])<<24))
}

func (l *Looker) ask(q *question) (Peer, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.help == nil {
		return l.self.answer(q), nil
	}
	var a [answerSize]byte
	if _, err := l.help.Write(q[:]); err != nil {
		return Peer{User: -1}, ErrUnknown
	}
	if n, err := l.help.Read(a[:]); err != nil || n != answerSize {
		return Peer{User: -1}, ErrUnknown
	}
	return Peer{
		Login: a[0]&isLogin != 0, Files: a[0]&isFiles != 0, Seal: a[0]&isSeal != 0, Door: a[0]&isDoor != 0,
		User: number(a[4:]), Pid: number(a[8:]),
	}, nil
}

// pack writes an answer.
func (p Peer) pack() (a [answerSize]byte) {
	for bit, is := range map[byte]bool{isLogin: p.Login, isFiles: p.Files, isSeal: p.Seal, isDoor: p.Door} {
		if is {
			a[0] |= bit
		}
	}
	putNumber(a[4:], p.User)
	putNumber(a[8:], p.Pid)
	return a
}
