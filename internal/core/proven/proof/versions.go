package proof

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"runtime"
	"strings"
	"sync"

	"app.example/trammel/internal/core/base/canon"
	"app.example/trammel/internal/core/base/shell"
	"app.example/trammel/internal/core/written/lock"
)

// mostSaid is how many tools are named that are what the lock says.
const mostSaid = 24

// versions starts each tool inside the environment and reads its version.
func (v *verifier) versions(ctx context.Context) {
	if !v.m.consented() {
		v.consent("answers")
		return
	}
	said, details := v.askAll(ctx, v.l)
	if len(details) > 0 {
		v.row("answers", Drift, "a tool is not what the lock says", details...)
		return
	}
	text := strings.Join(said[:min(len(said), mostSaid)], ", ")
	if more := len(said) - mostSaid; more > 0 {
		text += fmt.Sprintf(" and %d more", more)
	}
	if len(said) == 0 {
		text = "no tool states its version"
	}
	v.row("answers", OK, text)
}

// askAll starts each tool of a lock, several at once, and gives what they said and what is wrong with them.
func (v *verifier) askAll(ctx context.Context, l *lock.Lock) (said []string, details []Detail) {
	items := lock.Sorted(l.Items)
	answers := make([]string, len(items))
	wrong := make([]error, len(items))
	slots := make(chan struct{}, runtime.GOMAXPROCS(0))
	var wait sync.WaitGroup
	for i, name := range items {
		item := l.Items[name]
		if item.Answer == "" {
			continue
		}
		wait.Go(func() {
			slots <- struct{}{}
			defer func() { <-slots }()
			got, err := v.m.asked(ctx, l, item)
			switch {
			case err != nil:
				wrong[i] = err
			case got != item.Version:
				wrong[i] = fmt.Errorf("says %q and %s is locked", got, item.Version)
			default:
				answers[i] = name + " " + got
				wrong[i] = v.elsewhere(ctx, l, item, name)
			}
		})
	}
	wait.Wait()
	for i, w := range wrong {
		if w == nil {
			if answers[i] != "" {
				said = append(said, answers[i])
			}
			continue
		}
		details = append(details, Detail{items[i], w.Error()})
		switch {
		case errors.Is(w, errElsewhere): // which fetching it anew does not mend
			v.mend("trammel lock --renew " + shell.Typed(items[i]))
		case !errors.Is(w, errNotOurs): // which fitting cannot mend; of a link that is gone the row of commands tells
			v.fit(items[i])
		}
	}
	return said, details
}

// errElsewhere is a tool that states the locked version and leans on files of the host.
var errElsewhere = errors.New("which is not of this environment")

// elsewhere says where a tool stands that takes its libraries from elsewhere than its own parts.
func (v *verifier) elsewhere(ctx context.Context, l *lock.Lock, item lock.Item, name string) error {
	if item.Place == "" {
		return nil
	}
	folder, own, err := v.m.stands(ctx, l, item, name)
	if err == nil && !own {
		err = fmt.Errorf("uses the files in %s, %w", folder, errElsewhere)
	}
	return err
}

// variables checks the declared variables against the lock and, inside a shell of
// this environment, the living ones against what a new shell would get.
func (v *verifier) variables() {
	var details []Detail
	for _, x := range v.p.Written.Variables {
		if v.l.Variables[x.Name] != canon.Digest(x.Text()) {
			details = append(details, Detail{x.Name, "is not what was locked"})
			v.mend("trammel lock")
		}
	}
	living := v.m.living()
	inside := living["TRAMMEL_DIR"] == v.p.Dir() && living["TRAMMEL_BAY"] == v.p.Bay.Name
	if inside {
		details = append(details, v.living(living)...)
	}
	text := fmt.Sprintf("%d", len(v.m.variables()))
	if inside {
		text += ", and this shell has them"
	}
	if len(details) > 0 {
		v.row("variables", Drift, "differ from the lock", details...)
		return
	}
	v.row("variables", OK, text)
}

func (v *verifier) living(living map[string]string) []Detail {
	var details []Detail
	for _, x := range v.m.variables() {
		want, ok := v.m.wantedValue(x)
		if !ok {
			continue // what it should be is for those who consented
		}
		if got, ok := living[x.Name]; !ok {
			details = append(details, Detail{x.Name, "is not set in this shell"})
		} else if got != want {
			what := "has another value in this shell"
			if line := startLine(living["HOME"], "", x.Name); line != "" {
				what += ", from " + line
			}
			details = append(details, Detail{x.Name, what})
		}
	}
	bin, commands := v.m.bin()
	for _, name := range commands {
		if found, err := v.m.found(name, living["PATH"]); err != nil {
			details = append(details, Detail{name, "is not on this shell's PATH"})
		} else if found != filepath.Join(bin, name) {
			what := "is shadowed by " + found
			if line := startLine(living["HOME"], filepath.Dir(found), ""); line != "" {
				what += ", whose folder " + line + " puts first"
			}
			details = append(details, Detail{name, what})
		}
	}
	if len(details) > 0 {
		v.mend("leave this shell and open a new one: trammel shell")
	}
	return details
}
