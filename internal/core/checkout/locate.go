package checkout

import (
	"errors"
	"path/filepath"
	"strings"

	"app.example/trammel/internal/core/checkout/policy"

	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/base/place"
	"app.example/trammel/internal/core/origins/locator"
	"app.example/trammel/internal/core/written/declare"
	"app.example/trammel/internal/core/written/lock"
)

// Locate says what may be done for the locators that a declaration includes.
type Locate struct {
	// Get fetches what a locator names: the pin's files, or what it names now when
	// pin is "". With nil only what is on this machine counts.
	Get func(l locator.Locator, pin string) (dir, is string, err error)
	Pin bool // give a pin to what the lock has none for
	New bool // give new pins to all

	allow func(host string) error // whether a host may be asked
}

// getter finds included files by the pins of the checkout's lock.
func (o Locate) getter(places place.Places, file string, l *lock.Lock) declare.Get {
	pins := pinsOf(l)
	return func(text string) (dir, path, pin string, err error) {
		l, err := locator.Parse(text, filepath.Dir(file))
		if err != nil {
			return "", "", "", err
		}
		path, l.Sub = l.Sub, ""
		before, _, _ := strings.Cut(text, "#")
		pin = pins[before+"#"+l.Rev+":"]
		if o.New {
			pin = ""
		}
		if pin == "" && !o.Pin {
			return "", "", "", fault.New(fault.ErrUsage, "the lock does not say yet which state of it is meant").Advise("Pin it: trammel lock")
		}
		if o.Get != nil {
			if host := policy.HostOf(l.At); host != "" && o.allow != nil {
				if err := o.allow(host); err != nil {
					return "", "", "", err
				}
			}
			dir, pin, err = o.Get(l, pin)
			return dir, path, pin, err
		}
		dir, err = locator.Keeper{Dir: places.Locators()}.Kept(l, pin)
		if errors.Is(err, locator.ErrNotHere) {
			err = fault.New(fault.ErrUsage, "its files are not on this machine yet").Advise("Fetch them: trammel fit")
		}
		return dir, path, pin, err
	}
}

// pinsOf reads what a lock says of included files: pins by "git+URL#REV:".
func pinsOf(l *lock.Lock) map[string]string {
	pins := map[string]string{}
	if l == nil {
		return pins
	}
	for _, line := range l.Declaration.Includes {
		fields := strings.Fields(line)
		hash := strings.IndexByte(line, '#')
		if len(fields) != 3 || hash < 0 {
			continue
		}
		if colon := strings.IndexByte(line[hash:], ':'); colon > 0 {
			pins[line[:hash+colon+1]] = fields[2]
		}
	}
	return pins
}
