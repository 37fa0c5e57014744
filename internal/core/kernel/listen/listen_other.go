//go:build !linux

package listen

// Sockets has no table to read here.
func Sockets() ([]Socket, error) { return nil, ErrNone }

// Datagrams has no table to read here.
func Datagrams() ([]Socket, error) { return nil, ErrNone }

// All reads nothing here.
func All() ([]Socket, error) { return nil, nil }

// Lingering cannot be told here.
func Lingering([]Socket, int) bool { return true }

// HolderOf knows no more than the user.
func HolderOf(s Socket) Holder { return Holder{User: s.User} }

// Below is the process alone: its descendants are not known here.
func Below(pid int) []int { return []int{pid} }

// Held knows nothing here.
func Held([]int) map[uint64]string { return nil }

// Use is what processes use of the machine.
type Use struct {
	Memory int64 // bytes
	Ticks  int64 // of CPU time so far, 100 a second
}

// UseOf knows nothing here.
func UseOf([]int) Use { return Use{} }

// Share knows nothing here.
func Share() float64 { return 1 }

// SocketsOf has no table to read here.
func SocketsOf(int) ([]Socket, error) { return nil, ErrNone }
