package environ

import (
	"context"
	"fmt"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"app.example/trammel/internal/core/base/disk"
	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/base/host"
	"app.example/trammel/internal/core/base/mask"
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

// mostSecret is how large the file of a secret may be, in bytes.
const mostSecret = 1 << 20

// secretTime is how long a command may take to tell a secret.
const secretTime = 30 * time.Second

// vault are the secrets that were read with one consent.
type vault struct {
	host   host.Host
	values sync.Map // by the whole Secret
}

// read is the value of a secret.
func (v *vault) read(s Secret) (string, error) {
	if had, ok := v.values.Load(s); ok {
		return had.(string), nil
	}
	value, err := v.fetch(s)
	if err != nil {
		return "", fault.New(fault.ErrUsage, "the secret %s cannot be had from %s: %v", s.Name, s.From, err).
			Advise("It is declared as [secret.%s]. Whoever gave you the project can tell you its value.", s.Name)
	}
	value = strings.TrimRight(value, "\r\n")
	v.values.Store(s, value)
	return value, nil
}

func (v *vault) fetch(s Secret) (string, error) {
	kind, what, _ := strings.Cut(s.From, ":")
	switch kind {
	case "file":
		read := func() ([]byte, error) { return disk.ReadWithin(s.Dir, what, mostSecret) }
		if filepath.IsAbs(what) { // as it was shown when it was consented to
			read = func() ([]byte, error) { return disk.Read(what, mostSecret) }
		}
		raw, err := read()
		if err != nil {
			return "", fmt.Errorf("%s %s", what, disk.InWords(err))
		}
		return string(raw), nil
	case "env":
		value, ok := v.host.LookupEnv(what)
		if !ok {
			return "", fmt.Errorf("the variable is not set")
		}
		return value, nil
	}
	ctx, cancel := context.WithTimeout(context.Background(), secretTime)
	defer cancel()
	cmd := exec.CommandContext(ctx, "/bin/sh", "-c", what)
	cmd.Dir, cmd.Env, cmd.WaitDelay = s.Dir, v.host.Environ, time.Second
	out, err := cmd.Output()
	return string(out), err
}

// reveal puts secrets into a value that is about to be given to a process. One that
// cannot be had is left out.
func (v *vault) reveal(secrets []Secret, value string) string {
	if !Marked(value) {
		return value
	}
	for _, s := range secrets {
		if strings.Contains(value, mark(s.Name)) {
			text, _ := v.read(s)
			value = strings.ReplaceAll(value, mark(s.Name), text)
		}
	}
	return value
}

// masks are the values to mask in what processes print.
func (v *vault) masks(secrets []Secret) []string {
	var all []string
	for _, s := range secrets {
		if text, err := v.read(s); err == nil {
			all = append(all, text)
		}
	}
	return mask.Of(all)
}
