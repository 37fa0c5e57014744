// Package logbook keeps what services, steps and routines print, and reads it again without any of
// them running.
//
// A log is a row of files of bounded size. Its lines are whole, in order and without a gap, across every
// rotation, as long as the disk takes them; a full disk costs lines and stops nobody who prints. Each
// line has a time and a stream. Nothing is synced: what a power cut takes is gone. Masking is the
// caller's, before a line comes here.
package logbook

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"app.example/trammel/internal/core/base/disk"
)

// Limits of a service's log.
const (
	logSize  = 8 << 20 // bytes of one file
	logFiles = 4       // the current one and those before it
	maxLine  = 64 << 10

	readAhead = 16 << 10 // of each stream
	mostOpen  = 32       // files of logs that a supervisor holds open, however many services it has
)

// logTime is how a line's time is written: UTC, to the millisecond.
const logTime = "2006-01-02T15:04:05.000Z"

// Path is the current log of a service in a folder of logs. Older ones have
// .1, .2, … behind.
func Path(logs, name string) string { return filepath.Join(logs, name+".log") }

// StepName is the name of a step's log.
func StepName(step string) string { return "step-" + step }

// Writer keeps what a service prints, a line each: time, stream, text. It
// never blocks or ends a service: what cannot be written is dropped and counted.
type Writer struct {
	path string

	mu      sync.Mutex
	file    *os.File
	size    int64
	dropped int
	failed  time.Time         // when it last could not be written
	watch   func(line string) // called with each line while a probe wants it
}

// Open opens a log to go on with it. Errors are of the file system.
func Open(path string) (*Writer, error) {
	if err := disk.Private(filepath.Dir(path)); err != nil {
		return nil, err
	}
	w := &Writer{path: path}
	return w, w.open()
}

func (w *Writer) open() error {
	f, err := disk.AppendOwn(w.path)
	if err != nil {
		return err
	}
	info, err := f.Stat()
	if err != nil {
		f.Close()
		return err
	}
	w.file, w.size = f, info.Size()
	held.add(w)
	return nil
}

// OpenNew opens a log that begins anew: what it had is gone.
func OpenNew(path string) (*Writer, error) {
	for i := range logFiles {
		if err := os.Remove(rotated(path, i)); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return nil, err
		}
	}
	return Open(path)
}

// held are the logs whose files are open, the one that was opened first before the others.
var held openFiles

type openFiles struct {
	mu   sync.Mutex
	list []*Writer
}

// add notes that a log's file is open, and closes that of another where there are many: it is
// opened again when its service says something. The log's own lock is held.
func (o *openFiles) add(w *Writer) {
	o.mu.Lock()
	defer o.mu.Unlock()
	for i := 0; i < len(o.list) && len(o.list) >= mostOpen; {
		old := o.list[i]
		if old == w || !old.mu.TryLock() { // it writes just now
			i++
			continue
		}
		old.shut()
		old.mu.Unlock()
		o.list = slices.Delete(o.list, i, i+1)
	}
	if !slices.Contains(o.list, w) {
		o.list = append(o.list, w)
	}
}

// shut closes the file until something is to be written; w.mu is held.
func (w *Writer) shut() {
	if w.file != nil {
		w.file.Close()
		w.file = nil
	}
}

// Say writes one line of a stream ("out", "err", or "sup" for the supervisor's
// own remarks).
func (w *Writer) Say(stream string, text []byte) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.heard(text)
	w.put(record(nil, stream, text), 1)
}

// heard lets a probe hear a line, also one that a full disk drops; w.mu is held.
func (w *Writer) heard(text []byte) {
	if w.watch != nil {
		w.watch(string(text))
	}
}

// record appends a line as the file has it.
func record(to []byte, stream string, text []byte) []byte {
	to = time.Now().UTC().AppendFormat(to, logTime)
	return append(append(append(append(append(to, ' '), stream...), ' '), text...), '\n')
}

// again is how long nothing is tried after a write that failed, so that a flood onto a
// full disk costs no more than counting it.
const again = 100 * time.Millisecond

// put writes records, all of them or none; w.mu is held. What cannot be written is
// counted, and the count written once there is room.
func (w *Writer) put(records []byte, lines int) {
	if w.dropped > 0 && time.Since(w.failed) < again {
		w.dropped += lines
		return
	}
	if w.size > 0 && w.size+int64(len(records)) > logSize {
		w.rotate()
	}
	if w.dropped > 0 && !w.write(record(nil, "sup", fmt.Appendf(nil, "%d lines could not be kept", w.dropped))) {
		w.dropped += lines
		w.failed = time.Now()
		return
	}
	w.dropped = 0
	if !w.write(records) {
		w.dropped += lines
		w.failed = time.Now()
	}
}

// write appends a whole record or nothing.
func (w *Writer) write(record []byte) bool {
	if w.file == nil && w.open() != nil {
		return false
	}
	n, err := w.file.Write(record)
	if err != nil {
		if n > 0 {
			_ = w.file.Truncate(w.size)
		}
		return false
	}
	w.size += int64(n)
	return true
}

// rotate moves the files on by one, between two lines, so that none is cut.
func (w *Writer) rotate() {
	w.shut()
	for i := logFiles - 1; i > 0; i-- {
		_ = os.Rename(rotated(w.path, i-1), rotated(w.path, i))
	}
	_ = w.open()
}

func (w *Writer) Watch(f func(string)) {
	w.mu.Lock()
	w.watch = f
	w.mu.Unlock()
}

func (w *Writer) Close() {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.shut()
}

// Keep copies a stream into the log until its end. Lines that come together are
// written together.
func (w *Writer) Keep(stream string, r io.Reader) {
	lines := bufio.NewReaderSize(r, readAhead)
	var records []byte
	var begun []byte // of a line that is longer than what is read ahead
	for {
		count := 0
		records = records[:0]
		var end error
		w.mu.Lock()
		watched := w.watch != nil
		w.mu.Unlock()
		for {
			text, err := lines.ReadSlice('\n')
			if errors.Is(err, bufio.ErrBufferFull) && len(begun)+len(text) < maxLine {
				begun = append(begun, text...)
				continue
			}
			if len(begun) > 0 {
				text = append(begun, text...)
				begun = nil
			}
			if len(text) > 0 {
				text = bytes.TrimRight(text, "\r\n")
				records = record(records, stream, text)
				count++
				if watched {
					w.mu.Lock()
					w.heard(text)
					w.mu.Unlock()
				}
			}
			if err != nil && !errors.Is(err, bufio.ErrBufferFull) {
				end = err
				break
			}
			next, _ := lines.Peek(lines.Buffered()) // what is here; nothing is waited for
			if len(records) >= maxLine || bytes.IndexByte(next, '\n') < 0 {
				break
			}
		}
		if count > 0 {
			w.mu.Lock()
			w.put(records, count)
			w.mu.Unlock()
		}
		if end != nil {
			return
		}
	}
}

// Line is one line of a log.
type Line struct {
	At     time.Time `json:"at"`
	Name   string    `json:"service"`
	Stream string    `json:"stream"`
	Text   string    `json:"text"`
}

func parseLine(name, raw string) (Line, bool) {
	at, rest, ok := strings.Cut(raw, " ")
	stream, text, ok2 := strings.Cut(rest, " ")
	t, err := time.Parse(logTime, at)
	if !ok || !ok2 || err != nil {
		return Line{}, false
	}
	return Line{t, name, stream, text}, true
}

// rotated is the path of a log's file, 0 being the current one.
func rotated(path string, i int) string {
	if i == 0 {
		return path
	}
	return fmt.Sprintf("%s.%d", path, i)
}

func readFile(path, name string, since time.Time) []Line {
	raw, err := disk.Read(path, disk.MostState)
	if err != nil {
		return nil
	}
	var out []Line
	for text := range strings.Lines(string(raw)) {
		if l, ok := parseLine(name, strings.TrimSuffix(text, "\n")); ok && !l.At.Before(since) {
			out = append(out, l)
		}
	}
	return out
}

// Read reads the last lines of a service's log, oldest first: at most count of
// them (all when count is 0), and none older than since. It needs no supervisor.
func Read(logs, name string, count int, since time.Time) []Line {
	t := OpenTail(logs, name)
	defer t.Close()
	return t.Last(count, since)
}

// Tail reads a log and goes on with what comes: between the two no line is lost or
// told twice, whatever is rotated meanwhile, as long as the line is kept at all.
type Tail struct {
	name    string
	path    string
	file    *os.File
	lines   *bufio.Reader
	partial string
}

// OpenTail opens a service's log, which may not be there yet.
func OpenTail(logs, name string) *Tail {
	t := &Tail{name: name, path: Path(logs, name)}
	t.open(t.path)
	return t
}

func (t *Tail) open(path string) bool {
	f, err := disk.OpenRegular(path)
	if err != nil {
		return false
	}
	t.Close()
	t.file, t.lines = f, bufio.NewReaderSize(f, 64<<10)
	return true
}

// Close ends the reading.
func (t *Tail) Close() {
	if t.file != nil {
		t.file.Close()
		t.file = nil
	}
}

// Last reads what the log holds so far, at most count lines and none older than since.
func (t *Tail) Last(count int, since time.Time) []Line {
	var now []Line
	t.each(func(l Line) { // through the open file, which is then at its end
		if !l.At.Before(since) {
			now = append(now, l)
		}
	})
	if count > 0 && len(now) >= count {
		return now[len(now)-count:]
	}
	var older []Line
	for i := 1; i < logFiles; i++ {
		if info, err := os.Stat(rotated(t.path, i)); err != nil || t.file == nil || sameFile(info, t.file) {
			continue // rotated since it was opened
		}
		own := readFile(rotated(t.path, i), t.name, since)
		older = append(own, older...)
		if count > 0 && len(older)+len(now) >= count {
			break
		}
	}
	all := append(older, now...)
	if count > 0 {
		all = all[max(0, len(all)-count):]
	}
	return all
}

// each calls f with the lines up to the end of the file.
func (t *Tail) each(f func(Line)) {
	if t.file == nil {
		return
	}
	for {
		text, err := t.lines.ReadString('\n')
		t.partial += text
		if err != nil {
			return
		}
		if l, ok := parseLine(t.name, strings.TrimSuffix(t.partial, "\n")); ok {
			f(l)
		}
		t.partial = ""
	}
}

// Follow calls f with every line that is added, until ctx ends.
func (t *Tail) Follow(ctx context.Context, f func(Line)) {
	for ctx.Err() == nil {
		if t.file == nil {
			t.open(t.path)
		}
		t.each(f)
		if t.file != nil && t.next(f) {
			continue
		}
		select {
		case <-ctx.Done():
		case <-time.After(50 * time.Millisecond):
		}
	}
}

// next goes on to the file after this one when this one was rotated away. What was
// still written to it before that is read first.
func (t *Tail) next(f func(Line)) bool {
	if info, err := os.Stat(t.path); err != nil || sameFile(info, t.file) {
		return false
	}
	t.each(f)
	newer := t.path
	for i := 1; i < logFiles; i++ { // find ourselves; the next one is before it
		if info, err := os.Stat(rotated(t.path, i)); err == nil && sameFile(info, t.file) {
			newer = rotated(t.path, i-1)
		}
	}
	return t.open(newer)
}

func sameFile(info os.FileInfo, f *os.File) bool {
	own, err := f.Stat()
	return err == nil && os.SameFile(info, own)
}
