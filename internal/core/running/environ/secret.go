package environ

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"trammel.example/trammel/internal/core/base/fault"
	"trammel.example/trammel/internal/core/base/mask"
)

// Secret is where a secret's value comes from. The value itself is in no plan, lock
// or log: an environment holds a mark in its place until a process is started.
type Secret struct {
	Name string `json:"name"`
	From string `json:"from"` // "file:PATH", "env:NAME" or "command:SCRIPT"
	Dir  string `json:"dir"`  // the project, where PATH and SCRIPT are at home
}

// The mark of a secret inside a value: bytes that no declaration can write.
const (
	markBegin = "\x02secret:"
	markEnd   = "\x03"
)

func mark(name string) string { return markBegin + name + markEnd }

// Marked tells whether a value holds a secret.
func Marked(value string) bool { return strings.Contains(value, markBegin) }

// values are the secrets that this process has read, by their whole description.
var values sync.Map

// Read is the value of a secret.
func (s Secret) Read() (string, error) {
	if v, ok := values.Load(s); ok {
		return v.(string), nil
	}
	kind, what, _ := strings.Cut(s.From, ":")
	refused := func(err error) error {
		return fault.New(fault.Use, "the secret %s cannot be had from %s: %v", s.Name, s.From, err).
			Advise("It is declared as [secret.%s]. Whoever gave you the project can tell you its value.", s.Name)
	}
	value := ""
	switch kind {
	case "file":
		if !filepath.IsAbs(what) {
			what = filepath.Join(s.Dir, what)
		}
		raw, err := os.ReadFile(what)
		if err != nil {
			return "", refused(err)
		}
		value = string(raw)
	case "env":
		var ok bool
		if value, ok = os.LookupEnv(what); !ok {
			return "", refused(fmt.Errorf("the variable is not set"))
		}
	case "command":
		ctx, cancel := context.WithTimeout(context.Background(), 30*time.Second)
		defer cancel()
		cmd := exec.CommandContext(ctx, "/bin/sh", "-c", what)
		cmd.Dir = s.Dir
		out, err := cmd.Output()
		if err != nil {
			return "", refused(err)
		}
		value = string(out)
	}
	value = strings.TrimRight(value, "\r\n")
	values.Store(s, value)
	return value, nil
}

// Reveal puts secrets into a value that is about to be given to a process. One that
// cannot be had is left out.
func (e *Environment) Reveal(value string) string {
	if !Marked(value) {
		return value
	}
	for _, s := range e.Secrets {
		if strings.Contains(value, mark(s.Name)) {
			v, _ := s.Read()
			value = strings.ReplaceAll(value, mark(s.Name), v)
		}
	}
	return value
}

// Missing is the first secret that is used and cannot be had.
func (e *Environment) Missing() error {
	for _, s := range e.Secrets {
		for _, v := range e.Variables {
			if strings.Contains(v.Value, mark(s.Name)) {
				if _, err := s.Read(); err != nil {
					return err
				}
			}
		}
	}
	return nil
}

// Masks are the values to mask in what processes of this environment print.
func (e *Environment) Masks() []string {
	var all []string
	for _, s := range e.Secrets {
		if v, err := s.Read(); err == nil {
			all = append(all, v)
		}
	}
	return mask.Of(all)
}
