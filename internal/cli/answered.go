package cli

import (
	"context"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"sync"

	"app.example/trammel/internal/core/base/disk"
	"app.example/trammel/internal/core/base/kept"
	"app.example/trammel/internal/core/base/seen"
)

// heard is a stream of this process whose text is remembered.
type heard struct {
	to  string // as kept.Said has it
	out *os.File
	all *pieces
}

type pieces struct {
	mu    sync.Mutex
	list  []kept.Said
	size  int         // of all that was said, in bytes
	notes *seen.Notes // of the command that prints them
}

func (h *heard) Write(text []byte) (int, error) {
	h.all.mu.Lock()
	defer h.all.mu.Unlock()
	n, err := h.out.Write(text)
	if h.all.size += n; h.all.size > mostAnswer {
		seen.Doubt("much was said")
		h.all.list = nil
		return n, err
	}
	if last := len(h.all.list) - 1; last >= 0 && h.all.list[last].To == h.to {
		h.all.list[last].Text += string(text[:n])
	} else {
		h.all.list = append(h.all.list, kept.Said{To: h.to, Text: string(text[:n])})
	}
	if err != nil {
		seen.Doubt("what could not be written")
	}
	return n, err
}

// note begins to note what this process looks at, where answers are given before main (internal/early).
func note() *seen.Notes {
	if runtime.GOOS != "linux" {
		return nil
	}
	return seen.Begin()
}

// keeping runs a command whose answer is kept for the next time, where nothing but files decided
// about it (internal/early gives it).
func keeping(ctx context.Context, args []string) int {
	notes := note()
	if notes == nil {
		return run(ctx, args)
	}
	out := &heard{"1", os.Stdout, &pieces{notes: notes}}
	app := newApp()
	app.Writer = out
	if err := app.Run(ctx, args); err != nil {
		return conclude(ctx, err)
	}
	keepAnswer(notes, args[1:], kept.Reply{Said: out.all.list})
	return 0
}

// mostAnswers is how many answers are kept, and mostAnswer how large one may be, in bytes.
const (
	mostAnswers = 64
	mostAnswer  = 4 << 20
)

// keepAnswer keeps an answer for who asks the same again. That it could not be is no matter.
func keepAnswer(notes *seen.Notes, words []string, r kept.Reply) {
	dir, err := os.Getwd()
	if err != nil {
		return
	}
	_, program := kept.Stamps(kept.Self)
	if program == nil {
		return
	}
	q := kept.Question{Words: words, Dir: dir, User: os.Getuid(), Path: os.Getenv("PATH"), Columns: [2]int{kept.Columns(1), kept.Columns(2)}}
	answer, ok := notes.Answer(q, *program, r)
	if !ok {
		return
	}
	session, err := sessionFolder()
	if err != nil || !kept.Apart(session) {
		return
	}
	folder := kept.Answers(session)
	if err := os.Mkdir(folder, 0o700); err != nil && !errors.Is(err, fs.ErrExist) {
		return
	}
	raw := answer.Bytes()
	if raw == nil || len(raw) > mostAnswer {
		return
	}
	forget(folder)
	_ = disk.WriteCache(q.In(folder), raw)
}

// forget drops the oldest answers, where there are many.
func forget(folder string) {
	entries, err := os.ReadDir(folder)
	if err != nil || len(entries) < mostAnswers {
		return
	}
	age := func(e os.DirEntry) int64 {
		info, err := e.Info()
		if err != nil {
			return 0
		}
		return info.ModTime().UnixNano()
	}
	slices.SortFunc(entries, func(a, b os.DirEntry) int { return int(min(1, max(-1, age(a)-age(b)))) })
	for _, e := range entries[:len(entries)/2] {
		_ = os.Remove(filepath.Join(folder, e.Name()))
	}
}
