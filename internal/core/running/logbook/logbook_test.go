package logbook

import (
	"context"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"
)

// Whatever a service prints, the lines that are kept are whole, in order and
// without a gap, across every rotation.
func TestAFloodIsRotatedWithoutLosingALine(t *testing.T) {
	dir := t.TempDir()
	w, err := Open(Path(dir, "lane"))
	if err != nil {
		t.Fatal(err)
	}
	const lines = 400_000
	r, pipe := io.Pipe()
	go func() {
		for i := range lines {
			fmt.Fprintf(pipe, "passing number %d of a long and busy day at the ladder\n", i)
		}
		pipe.Close()
	}()
	w.Keep("out", r)
	w.Close()
	files, _ := filepath.Glob(filepath.Join(dir, "lane.log*"))
	if len(files) < 3 || len(files) > logFiles {
		t.Errorf("%d files: %v", len(files), files)
	}
	for _, f := range files {
		if info, _ := os.Stat(f); info.Size() > logSize+1024 {
			t.Errorf("%s has %d bytes", f, info.Size())
		}
	}
	kept := Read(dir, "lane", 0, time.Time{})
	if len(kept) == 0 {
		t.Fatal("nothing is kept")
	}
	first := lines - len(kept)
	for i, l := range kept {
		if want := fmt.Sprintf("passing number %d of a long and busy day at the ladder", first+i); l.Text != want || l.Stream != "out" {
			t.Fatalf("line %d is %q, not %q", i, l.Text, want)
		}
	}
}

func TestOddOutputIsKept(t *testing.T) {
	dir := t.TempDir()
	w, err := Open(Path(dir, "odd"))
	if err != nil {
		t.Fatal(err)
	}
	long := strings.Repeat("x", 3*maxLine)
	w.Keep("err", strings.NewReader("no end of line"))
	w.Keep("out", strings.NewReader("windows\r\n\n\x00\xff\n"+long+"\nlast"))
	w.Close()
	got := Read(dir, "odd", 0, time.Time{})
	var texts []string
	total := 0
	for _, l := range got {
		texts = append(texts, l.Text)
		total += len(l.Text)
	}
	if texts[0] != "no end of line" || texts[1] != "windows" || texts[2] != "" || texts[len(texts)-1] != "last" || total < len(long) {
		t.Errorf("%d lines, %d bytes", len(texts), total)
	}
}

func TestALogThatCannotBeWrittenIsCountedAndBlocksNobody(t *testing.T) {
	w := &Writer{path: filepath.Join(t.TempDir(), "gone", "x.log")} // its folder is not there
	heard := 0
	w.Watch(func(string) { heard++ })
	w.Keep("out", strings.NewReader("a\nb\nc\n"))
	if heard != 3 {
		t.Errorf("a probe heard %d of 3 lines", heard)
	}
	if err := os.MkdirAll(filepath.Dir(w.path), 0o755); err != nil {
		t.Fatal(err)
	}
	time.Sleep(2 * again)
	w.Say("out", []byte("there is room again"))
	w.Close()
	got := Read(filepath.Dir(w.path), "x", 0, time.Time{})
	if len(got) != 2 || got[0].Text != "3 lines could not be kept" || got[1].Text != "there is room again" {
		t.Errorf("%+v", got)
	}
}

func TestFollowingALogLosesAndRepeatsNoLineAcrossRotations(t *testing.T) {
	dir := t.TempDir()
	w, err := Open(Path(dir, "lane"))
	if err != nil {
		t.Fatal(err)
	}
	const lines = 3000
	rotate := func() {
		w.mu.Lock()
		w.rotate()
		w.mu.Unlock()
	}
	w.Say("out", []byte("0"))
	rotate()
	w.Say("out", []byte("1"))
	tail := OpenTail(dir, "lane")
	defer tail.Close()
	var seen []string
	rotate() // between opening and reading
	w.Say("out", []byte("2"))
	for _, l := range tail.Last(0, time.Time{}) {
		seen = append(seen, l.Text)
	}
	ctx, cancel := context.WithTimeout(t.Context(), 60*time.Second)
	defer cancel()
	var writing sync.WaitGroup
	var reached atomic.Int64 // the last line that was seen
	writing.Go(func() {
		for i := 3; i < lines; i++ {
			w.Say("out", fmt.Append(nil, i))
			if i%500 == 0 {
				rotate()
				if i%1000 == 0 {
					rotate() // a file with nothing in it
				}
				for reached.Load() < int64(i) && ctx.Err() == nil { // no more than two between two looks
					time.Sleep(time.Millisecond)
				}
			}
		}
	})
	tail.Follow(ctx, func(l Line) {
		seen = append(seen, l.Text)
		reached.Store(int64(len(seen) - 1))
		if l.Text == fmt.Sprint(lines-1) {
			cancel()
		}
	})
	writing.Wait()
	if len(seen) != lines {
		t.Errorf("it saw %d lines, not %d", len(seen), lines)
	}
	for i, text := range seen {
		if text != fmt.Sprint(i) {
			t.Fatalf("line %d is %q", i, text)
		}
	}
}

// However many services a supervisor has, few files of logs are open, and no line is lost.
func TestFewLogsAreOpenAtOnce(t *testing.T) {
	dir := t.TempDir()
	var all []*Writer
	for i := range 3 * mostOpen {
		w, err := Open(Path(dir, fmt.Sprint("lane", i)))
		if err != nil {
			t.Fatal(err)
		}
		all = append(all, w)
	}
	var writing sync.WaitGroup
	for i, w := range all {
		writing.Go(func() {
			for n := range 20 {
				w.Keep("out", strings.NewReader(fmt.Sprintf("%d %d\n", i, n)))
			}
		})
	}
	writing.Wait()
	open := 0
	for i, w := range all {
		if w.file != nil {
			open++
		}
		w.Close()
		if got := Read(dir, fmt.Sprint("lane", i), 0, time.Time{}); len(got) != 20 || got[19].Text != fmt.Sprint(i, " 19") {
			t.Errorf("lane%d kept %d lines", i, len(got))
		}
	}
	if open > mostOpen {
		t.Errorf("%d files are open", open)
	}
}

// A line is one line up to its most, longer than what is read ahead; one beyond is cut there.
func TestLongLinesStayWhole(t *testing.T) {
	dir := t.TempDir()
	w, err := Open(Path(dir, "lane"))
	if err != nil {
		t.Fatal(err)
	}
	long, longest := strings.Repeat("a", 3*readAhead+7), strings.Repeat("b", maxLine+1000)
	w.Keep("out", strings.NewReader("short\n"+long+"\nshort\n"+longest+"\nend"))
	w.Close()
	var sizes []int
	for _, l := range Read(dir, "lane", 0, time.Time{}) {
		sizes = append(sizes, len(l.Text))
	}
	if len(sizes) != 6 || sizes[1] != len(long) || sizes[3]+sizes[4] != len(longest) || sizes[5] != 3 {
		t.Errorf("lines of %v", sizes)
	}
}
