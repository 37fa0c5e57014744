package supervise

import (
	"errors"
	"fmt"
	"syscall"
)

// perService is how many files a supervisor holds open for a service that runs: what it prints
// on two streams, the two lines to its init, and the handle of that.
const perService = 5

// inPlainWords is an error in words that tell what to do about a limit of the machine.
func inPlainWords(err error) error {
	if !errors.Is(err, syscall.EMFILE) {
		return err
	}
	var limit syscall.Rlimit
	if syscall.Getrlimit(syscall.RLIMIT_NOFILE, &limit) != nil {
		return err
	}
	return fmt.Errorf("%w: this machine lets a program hold %d files open, and every running service needs %d; raise the limit (ulimit -Hn), stop the services and start them again",
		err, limit.Cur, perService)
}
