package cli

import (
	"context"
	_ "embed"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"app.example/trammel/internal/core/acting/setup"
	"app.example/trammel/internal/core/base/cached"
	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/base/foreign"
	"app.example/trammel/internal/core/base/host"
	"app.example/trammel/internal/core/base/place"
	"app.example/trammel/internal/core/base/reading"
	"app.example/trammel/internal/core/base/rests"
	"app.example/trammel/internal/core/checkout"
	"app.example/trammel/internal/core/checkout/approval"
	"app.example/trammel/internal/core/checkout/bay"
	"app.example/trammel/internal/core/kernel/process"
	"app.example/trammel/internal/core/running/environ"
	"app.example/trammel/internal/core/running/step"
	"app.example/trammel/internal/core/written/declare"
)

// The integrations. PROGRAM stands for this program, quoted.
var (
	//go:embed follow/bash.sh
	followBash string
	//go:embed follow/zsh.sh
	followZsh string
	//go:embed follow/fish.fish
	followFish string

	//go:embed follow/missing.sh
	missingBash string
	//go:embed follow/missing.zsh
	missingZsh string
	//go:embed follow/missing.fish
	missingFish string
)

// missingText is what has a shell say of a command that is not there what would provide it.
func missingText(shell string) string {
	self, err := os.Executable()
	text := map[string]string{"bash": missingBash, "zsh": missingZsh, "fish": missingFish}[shell]
	if err != nil || text == "" {
		return ""
	}
	quote := quotePosix
	if shell == "fish" {
		quote = quoteFish
	}
	return strings.ReplaceAll(text, "PROGRAM", quote(self))
}

func followCommand() *cli.Command {
	return &cli.Command{
		Name:      "follow",
		Usage:     "print the integration that makes a shell switch environments on changing folder",
		ArgsUsage: "bash|zsh|fish",
		Description: "Put one line at the end of the shell's start-up file:\n\n" +
			"   ~/.bashrc                    eval \"$(trammel follow bash)\"\n" +
			"   ~/.zshrc                     eval \"$(trammel follow zsh)\"\n" +
			"   ~/.config/fish/config.fish   trammel follow fish | source",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "enter", Hidden: true},
			&cli.IntFlag{Name: "of", Hidden: true},
			&cli.StringFlag{Name: "missing", Hidden: true},
		},
		ShellComplete: func(_ context.Context, c *cli.Command) {
			fmt.Fprintln(c.Root().Writer, "bash\nzsh\nfish")
		},
		Action: followAction,
	}
}

func followAction(ctx context.Context, c *cli.Command) error {
	shell := c.Args().First()
	text, ok := map[string]string{"bash": followBash, "zsh": followZsh, "fish": followFish}[shell]
	if !ok {
		return fault.New(fault.ErrUsage, "follow needs the name of a shell").Advise("Known: bash, zsh, fish. See: trammel help follow")
	}
	if root := c.String("enter"); root != "" {
		fmt.Print(enter(root, shell, c.Int("of")))
		return nil
	}
	if command := c.String("missing"); command != "" {
		plan, err := seenPlan(c)
		if err != nil {
			return errors.Join(exitCode(127), sayNow(foreign.Line(command)+" is not to be had here: "+fault.OneLine(err)))
		}
		return notThere(plan, command, &process.NotFound{Command: command})
	}
	self, err := os.Executable()
	if err != nil {
		return err
	}
	quote := quotePosix
	if shell == "fish" {
		quote = quoteFish
	}
	text += missingText(shell)
	fmt.Print(strings.ReplaceAll(text, "PROGRAM", quote(self)))
	return nil
}

// seenPlan is the environment of a checkout that is only looked at: a mistyped word asks nobody
// for consent, and fetches and makes nothing.
func seenPlan(c *cli.Command) (*environ.Compiled, error) {
	if plan, ok := cachedPlan(hostNow(), c.String("dir"), c.String("bay")); ok {
		return plan, nil
	}
	p, err := look(c)
	if err == nil {
		err = p.Usable()
	}
	if err != nil {
		return nil, err
	}
	given, err := approval.Check(p)
	if err != nil {
		return nil, err
	}
	plan, err := environ.Decide(p)
	if err != nil {
		return nil, err
	}
	return plan.Compile(given)
}

// enter is the code that a shell evaluates on coming into a project, or when one
// of its files changed. It never fails: what is wrong is said in one line, and the
// shell stays as it was until something changes.
func enter(root, shell string, pid int) string {
	w := &follower{shell: shell}
	places, err := placesNow()
	if err != nil {
		w.remark(fault.OneLine(err))
		return w.text.String()
	}
	folder, err := sessionFolder()
	if err != nil {
		w.remark(fault.OneLine(err))
		return w.text.String()
	}
	// From here on changes count: the stamp is made before anything is read.
	stamp := filepath.Join(folder, fmt.Sprint(pid))
	if err := os.WriteFile(stamp, nil, 0o600); err != nil {
		w.remark(err.Error())
		return w.text.String()
	}
	// File times have the grain of the kernel's clock, and an editor may be in the
	// middle of writing: what came just before the stamp is looked at once more.
	before := time.Now().Add(-50 * time.Millisecond)
	if err := os.Chtimes(stamp, before, before); err != nil {
		w.remark(err.Error())
	}
	w.stamp = stamp
	sweepFollowers(filepath.Dir(stamp))
	p, err := checkout.Open(checkout.Asked{Host: hostNow(), Dir: root, Bay: bay.Main}, checkout.Locate{})
	if err != nil {
		w.watch([]rests.Watched{{Path: filepath.Join(root, declare.FileName), There: true}})
		w.remark(fault.FirstLine(err))
		if _, had := approval.Last(places, root); had {
			w.hideAll(hostNow(), places)
		}
		return w.text.String()
	}
	w.name = p.Declaration.Project
	compiled, on, watched := w.setup(p)
	// What is watched goes before what is set, so that it is watched whatever fails in that.
	set := w.text.String()
	w.text.Reset()
	w.watch(append([]rests.Watched{{Path: p.Written.File, There: true}}, watched.Watch()...))
	text := w.text.String() + set
	if compiled != nil {
		compiled.KeepComing(shell, on, strings.ReplaceAll(text, stamp, cached.Stamp))
	}
	return text
}

// sessionFolder is where things lie that end with a person's session, of which none is state:
// neither in their home nor in a checkout, but in a folder of theirs alone (cached.Session).
func sessionFolder() (string, error) {
	folder := cached.Session(os.Getenv)
	if err := os.Mkdir(folder, 0o700); err != nil && !errors.Is(err, fs.ErrExist) {
		return "", err
	}
	if !cached.Own(folder) {
		return "", fault.New(fault.ErrFailed, "%s is not a folder of yours alone", folder).Advise("Remove it, or set XDG_RUNTIME_DIR.")
	}
	return folder, nil
}

type follower struct {
	shell string
	name  string // of the project, once it is known
	stamp string // what is newer has changed since
	text  strings.Builder
}

// setup writes what the shell sets, and returns the plan, nil where there is none, what the text rests
// on, and of that what a prompt watches: the steps that are due are told once, on coming in.
func (w *follower) setup(p *checkout.State) (_ *environ.Compiled, on, watched rests.On) {
	h := p.Host
	on = p.Rests
	err := p.Usable()
	var given approval.Given
	if err == nil {
		given, err = approval.Check(p)
		on = on.Join(approval.Effects(p).Rests)
	}
	var plan *environ.Plan
	if err == nil {
		plan, err = environ.Decide(p)
	}
	var compiled *environ.Compiled
	if err == nil {
		compiled, err = plan.Compile(given)
	}
	if err != nil {
		w.remark(fault.OneLine(err))
		w.hide(h, p)
		return nil, on, on
	}
	on = compiled.Rests
	if compiled.Environment.Isolation == declare.Sealed { // a shell that follows is the host's own
		if err := compiled.Isolate(declare.Open, h); err != nil {
			w.remark(fault.OneLine(err))
			return nil, on, on
		}
		w.remark("sealed: here its tools come first and the host shows behind them. For the sealed root: trammel shell")
	}
	ready := compiled.Ready(h)
	for _, v := range ready.Variables {
		v.Value = ready.Reveal(v.Value)
		w.export(v)
	}
	w.export(environ.Variable{Name: "PATH", Value: ready.PathOf(h.Getenv("PATH"))})
	switch w.shell {
	case "bash":
		w.text.WriteString("hash -r\n")
	case "zsh":
		w.text.WriteString("rehash\n")
	}
	r := reading.New(h)
	sight := &setup.Sight{State: p, Plan: plan, Looks: r}
	if statuses, err := sight.Steps(); err == nil {
		if due := step.Due(statuses); len(due) > 0 {
			w.remark("due: " + due[0].Step.Name + more(len(due)-1) + ". Run: trammel fit")
		}
	}
	return compiled, on.Join(r.On()), on
}

// hide keeps what the host has hidden where a project that somebody consented to before cannot be
// taken on as it is now: else its tools would be the host's own, in silence.
func (w *follower) hide(h host.Host, p *checkout.State) {
	if _, had := approval.Last(p.Places, p.Dir()); had && p.Declaration.Isolation != declare.Open {
		w.hideAll(h, p.Places)
	}
}

func (w *follower) hideAll(h host.Host, places place.Places) {
	links := environ.LinksOf(nil, places.HostLinks(), nil, h.Getenv("PATH"), h.Program)
	if err := links.Make(); err != nil {
		w.remark(fault.OneLine(err))
		return
	}
	w.remark("until then only the base commands of this machine are found here")
	w.export(environ.Variable{Name: "PATH", Value: links.Dir})
	switch w.shell {
	case "bash":
		w.text.WriteString("hash -r\n")
	case "zsh":
		w.text.WriteString("rehash\n")
	}
}

func more(n int) string {
	if n == 0 {
		return ""
	}
	return fmt.Sprintf(" and %d more", n)
}

func (w *follower) quote(s string) string {
	if w.shell == "fish" {
		return quoteFish(s)
	}
	return quotePosix(s)
}

// watch tells the shell which paths, the declaration first, make it ask again: when one of them is
// newer than the stamp, or came, or when the declaration is gone.
func (w *follower) watch(paths []rests.Watched) {
	var there, missing []string
	for i, x := range paths {
		if i > 0 && x.Path == paths[0].Path {
			continue
		}
		if x.There {
			there = append(there, w.quote(x.Path))
		} else {
			missing = append(missing, w.quote(x.Path))
		}
	}
	if w.shell == "fish" {
		fmt.Fprintf(&w.text, "set -g __trammel_stamp %s\nset -g __trammel_watch %s\nset -g __trammel_missing %s\n", w.quote(w.stamp), strings.Join(there, " "), strings.Join(missing, " "))
		return
	}
	// One compound test costs a prompt a fraction of a loop.
	tests := "! -f " + there[0]
	for _, f := range there {
		tests += " || " + f + " -nt " + w.quote(w.stamp)
	}
	for _, f := range missing {
		tests += " || -e " + f
	}
	fmt.Fprintf(&w.text, "__trammel_changed() { [[ %s ]]; }\n", tests)
}

// export keeps what a variable was and gives it its value.
func (w *follower) export(v environ.Variable) {
	if w.shell != "fish" {
		fmt.Fprintf(&w.text, "__trammel_set %s %s\n", v.Name, w.quote(v.Value))
		return
	}
	fmt.Fprintf(&w.text, "__trammel_keep %s\n", v.Name)
	switch {
	case v.Name == "PATH":
		var dirs []string
		for _, d := range filepath.SplitList(v.Value) {
			dirs = append(dirs, w.quote(d))
		}
		fmt.Fprintf(&w.text, "set -gx PATH %s\n", strings.Join(dirs, " "))
	default:
		fmt.Fprintf(&w.text, "set -gx %s %s\n", v.Name, w.quote(v.Value))
	}
}

// remark prints one line for the person.
func (w *follower) remark(text string) {
	name := w.name
	if name == "" {
		name = "trammel"
	}
	fmt.Fprintf(&w.text, "printf '%%s\\n' %s >&2\n", w.quote(foreign.Line(name+": "+text)))
}

// sweepFollowers drops the stamps of shells that are gone.
func sweepFollowers(dir string) {
	entries, err := os.ReadDir(dir)
	if err != nil || len(entries) < 16 {
		return
	}
	for _, e := range entries {
		if _, err := os.Stat("/proc/" + e.Name()); os.IsNotExist(err) {
			os.Remove(filepath.Join(dir, e.Name()))
		}
	}
}
