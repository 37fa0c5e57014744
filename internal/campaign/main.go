// Command campaign makes trouble for the program, at random instants and in every way
// that a machine has, and looks each time whether it keeps what it promises:
//
//	go run ./internal/campaign                # 1,000 kills, and every other trouble
//	go run ./internal/campaign -kills 100     # a shorter one
//	go run ./internal/campaign tamper         # 1,000 changes of a fitted machine, each to be named and mended
//	go run ./internal/campaign edits          # 1,000 times two commands and an editor at one declaration
//
// A run takes its random numbers from -seed, which it prints, so that a finding can be
// looked for again. What must hold after each kill is in promises.go; docs/inside.md
// says it in words. It needs no network, and signals only processes that it started or
// that work in its own temporary folder.
package main

import (
	"flag"
	"fmt"
	"math/rand/v2"
	"os"
	"strings"
	"time"
)

func main() {
	if len(os.Args) == 4 && os.Args[1] == serveWord {
		fmt.Fprintln(os.Stderr, serve(os.Args[2:]))
		os.Exit(1)
	}
	if len(os.Args) > 1 && (os.Args[1] == "tamper" || os.Args[1] == "edits") {
		other(os.Args[1], os.Args[2:])
		return
	}
	kills := flag.Int("kills", 1000, "how many commands to kill")
	seed := flag.Uint64("seed", uint64(time.Now().UnixNano()), "where the random numbers begin")
	flag.Parse()
	root, err := os.MkdirTemp("", "trammel-campaign-")
	if err == nil {
		err = all(root, *kills, *seed, func(line string) { fmt.Println(line) })
	}
	if err != nil {
		fmt.Fprintf(os.Stderr, "campaign: %v\nWhat is left of it: %s\n", err, root)
		os.Exit(1)
	}
	removeAll(root)
}

// other is a campaign of changes, or of edits.
func other(kind string, args []string) {
	flags := flag.NewFlagSet(kind, flag.ExitOnError)
	n := flags.Int("changes", 1000, "how many changes to make, or rounds of edits")
	seed := flags.Uint64("seed", uint64(time.Now().UnixNano()), "where the random numbers begin")
	only := flags.String("only", "", "make only changes whose name has this text")
	_ = flags.Parse(args)
	say := func(line string) { fmt.Println(line) }
	say(fmt.Sprintf("seed %d", *seed))
	root, err := os.MkdirTemp("", "trammel-campaign-")
	var program string
	if err == nil {
		program, err = build(root)
	}
	switch {
	case err != nil:
	case kind == "tamper":
		err = tamper(root+"/machine", program, *n, *seed, *only, say)
	default:
		err = edits(root+"/machine", program, *n, *seed, say)
	}
	if err != nil {
		fmt.Fprintf(os.Stderr, "campaign: %v\nWhat is left of it: %s\n", err, root)
		os.Exit(1)
	}
	removeAll(root)
}

// all is the whole campaign; the first broken promise ends it.
func all(root string, kills int, seed uint64, say func(string)) error {
	say(fmt.Sprintf("seed %d", seed))
	program, err := build(root)
	if err != nil {
		return err
	}
	w, err := newWorld(root+"/kills", program)
	if err != nil {
		return err
	}
	counts, err := w.killing(rand.New(rand.NewPCG(seed, 0)), kills, say)
	for _, c := range counts {
		say(fmt.Sprintf("%-26s %5d killed, %5d had ended before", c.name, c.killed, c.ended))
	}
	w.end()
	if err != nil {
		return err
	}
	for i, t := range troubles {
		w, err := newWorld(fmt.Sprintf("%s/trouble-%d", root, i), program)
		if err != nil {
			return err
		}
		result := "holds"
		err = t.do(w)
		w.end()
		if reason, skipped := err.(notHere); skipped {
			result, err = "not possible here: "+string(reason), nil
		}
		if err != nil {
			return fmt.Errorf("%s: %w", t.name, err)
		}
		say(fmt.Sprintf("%-40s %s", t.name, result))
	}
	return nil
}

// notHere is a trouble that this machine cannot have.
type notHere string

func (n notHere) Error() string { return string(n) }

func firstLine(text string) string {
	line, _, _ := strings.Cut(strings.TrimSpace(text), "\n")
	return line
}
