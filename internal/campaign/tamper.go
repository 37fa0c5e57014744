package main

import (
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"time"

	"golang.org/x/sys/unix"
)

// tamper changes one random thing at a time on a machine where everything holds, and expects that verify,
// or the command that relies on the thing, names just that, and that the commands which verify names mend
// it. only says which kinds of change are made; "" is all.
func tamper(root, program string, n int, seed uint64, only string, say func(string)) error {
	f, err := newFitted(root, program)
	if err != nil {
		return err
	}
	defer f.registry.Close()
	defer f.end()
	counts := map[string]int{}
	list := changes
	if only != "" {
		list = slices.DeleteFunc(slices.Clone(changes), func(c change) bool { return !strings.Contains(c.name, only) })
	}
	var faults []error
	for i := range n {
		c := list[i%len(list)]
		r := rand.New(rand.NewPCG(seed, uint64(i)))
		if err := f.once(c, r); err != nil {
			err = fmt.Errorf("change %d, %s: %w", i+1, c.name, err)
			if n <= len(list) {
				return err
			}
			say("FAULT " + err.Error())
			faults = append(faults, err)
			if err := f.restored(); err != nil {
				return fmt.Errorf("the machine cannot be brought back: %w", err)
			}
		}
		counts[c.name]++
		if (i+1)%100 == 0 {
			say(fmt.Sprintf("%d of %d changes, %d faults", i+1, n, len(faults)))
		}
	}
	for _, c := range list {
		say(fmt.Sprintf("%-34s %4d", c.name, counts[c.name]))
	}
	if len(faults) > 0 {
		return fmt.Errorf("%d of %d changes were unnoticed, misnamed or not mended; the first: %w", len(faults), n, faults[0])
	}
	say(fmt.Sprintf("%d changes: each was named, and what was named mended it", n))
	return nil
}

// once makes one change and looks what is said of it.
func (f *fitted) once(c change, r *rand.Rand) (bad error) {
	e, err := c.do(f, r)
	if err != nil {
		return fmt.Errorf("it cannot be made: %w", err)
	}
	defer func() {
		if bad != nil && e.how != "" {
			bad = fmt.Errorf("(%s) %w", e.how, bad)
		}
	}()
	if e.act != nil {
		if said, err := e.act(f); err != nil {
			return fmt.Errorf("%w\n%s", err, said)
		}
	} else if err := f.named(e); err != nil {
		return err
	}
	if e.whole != nil {
		if err := e.whole(f); err != nil {
			return err
		}
	}
	return f.holds()
}

// named expects that verify names a change in its row, and in no other than those that may tell of it too.
func (f *fitted) named(e expect) error {
	p, err := f.verify(e.more...)
	if err != nil {
		return err
	}
	if p.OK {
		return fmt.Errorf("UNNOTICED: %s of %s\n%s", e.thing, e.row, p.said)
	}
	if text := p.told(e.row); !strings.Contains(text, e.thing) {
		return fmt.Errorf("MISNAMED: the row %s should name %q, and says %q\n%s", e.row, e.thing, text, p.said)
	}
	for _, x := range p.Checks {
		if x.State != "ok" && x.Row != e.row && !slices.Contains(e.also, x.Row) {
			return fmt.Errorf("MISNAMED: the row %s tells of it too\n%s", x.Row, p.said)
		}
	}
	return nil
}

// rounds of mending: what a mend uncovers may need another.
const mostMends = 3

// holds runs the commands that verify names until it holds.
func (f *fitted) holds() error {
	var tried []string
	for range mostMends {
		p, err := f.verify("--deep")
		if err != nil {
			return err
		}
		if p.OK {
			return nil
		}
		if len(p.Mend) == 0 {
			return fmt.Errorf("NO MEND is named:\n%s", p.said)
		}
		for _, command := range p.Mend {
			tried = append(tried, command)
			if err := f.mends(command); err != nil {
				return fmt.Errorf("THE MEND FAILS: %w\nFor: %s", err, p.said)
			}
		}
	}
	p, err := f.verify("--deep")
	if err == nil && !p.OK {
		err = fmt.Errorf("NOT MENDED by %q:\n%s", tried, p.said)
	}
	return err
}

// restored brings the machine back after a fault, by whatever works.
func (f *fitted) restored() error {
	for _, name := range []string{"node_modules/evil", "out", ".trammel/bin"} {
		removeAll(filepath.Join(f.dir, name))
	}
	for _, args := range [][]string{{"lock"}, {"approve", "--yes"}, {"fit", "--exact"}, {"stop"}, {"start"}, {"lock"}, {"approve", "--yes"}, {"fit"}} {
		if o, err := f.try(args...); err != nil {
			return err
		} else if o.code != 0 && args[0] != "lock" {
			return o.wrong("fails")
		}
	}
	p, err := f.verify("--deep")
	if err == nil && !p.OK {
		err = fmt.Errorf("%s", p.said)
	}
	return err
}

// serveWord is how this program is told to be a service of the campaign: FILE PORT.
const serveWord = "campaign-serve"

// serve answers on a port of loopback that others may take a place on too, until it is ended or ten minutes
// have passed.
func serve(args []string) error {
	if args[0] != "-" {
		if _, err := os.ReadFile(args[0]); err != nil {
			return err
		}
	}
	config := net.ListenConfig{Control: func(_, _ string, c syscall.RawConn) error {
		var err error
		return errors.Join(c.Control(func(fd uintptr) { err = unix.SetsockoptInt(int(fd), unix.SOL_SOCKET, unix.SO_REUSEPORT, 1) }), err)
	}}
	l, err := config.Listen(context.Background(), "tcp4", "127.0.0.1:"+args[1])
	if err != nil {
		return err
	}
	fmt.Println("listens")
	time.AfterFunc(time.Hour, func() { l.Close() })
	for {
		c, err := l.Accept()
		if err != nil {
			return err
		}
		c.Close()
	}
}

// digested compares a blob with the digest that is its name.
func digested(path string) error {
	file, err := os.Open(path)
	if err != nil {
		return err
	}
	defer file.Close()
	sum := sha256.New()
	if _, err := io.Copy(sum, file); err != nil {
		return err
	}
	if got := fmt.Sprintf("%x", sum.Sum(nil)); got != filepath.Base(path) {
		return fmt.Errorf("the blob %s has the digest %s", filepath.Base(path), got)
	}
	return nil
}
