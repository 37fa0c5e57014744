package service

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"
)

// Limits of a service's log.
const (
	logSize  = 8 << 20 // bytes of one file
	logFiles = 4       // the current one and those before it
	maxLine  = 64 << 10
)

// logTime is how a line's time is written: UTC, to the millisecond.
const logTime = "2006-01-02T15:04:05.000Z"

// LogPath is the current log of a service in a folder of logs. Older ones have
// .1, .2, … behind.
func LogPath(logs, name string) string { return filepath.Join(logs, name+".log") }

// logWriter keeps what a service prints, a line each: time, stream, text. It
// never blocks or ends a service: what cannot be written is dropped and counted.
type logWriter struct {
	path string

	mu      sync.Mutex
	file    *os.File
	size    int64
	dropped int
	watch   func(line string) // called with each line while a probe wants it
}

func openLog(path string) (*logWriter, error) {
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		return nil, err
	}
	w := &logWriter{path: path}
	return w, w.open()
}

func (w *logWriter) open() error {
	f, err := os.OpenFile(w.path, os.O_WRONLY|os.O_CREATE|os.O_APPEND, 0o644)
	if err != nil {
		return err
	}
	info, err := f.Stat()
	if err != nil {
		f.Close()
		return err
	}
	w.file, w.size = f, info.Size()
	return nil
}

// line writes one line of a stream ("out", "err", or "sup" for the supervisor's
// own remarks).
func (w *logWriter) line(stream string, text []byte) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.size >= logSize {
		w.rotate()
	}
	if w.dropped > 0 {
		note := fmt.Sprintf("%s sup %d lines could not be kept\n", time.Now().UTC().Format(logTime), w.dropped)
		if !w.write([]byte(note)) {
			w.dropped++
			return
		}
		w.dropped = 0
	}
	record := make([]byte, 0, len(text)+32)
	record = time.Now().UTC().AppendFormat(record, logTime)
	record = append(append(append(append(append(record, ' '), stream...), ' '), text...), '\n')
	if !w.write(record) {
		w.dropped++
	}
	if w.watch != nil {
		w.watch(string(text))
	}
}

// write appends a whole record or nothing.
func (w *logWriter) write(record []byte) bool {
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
func (w *logWriter) rotate() {
	if w.file != nil {
		w.file.Close()
		w.file = nil
	}
	for i := logFiles - 1; i > 0; i-- {
		from := w.path
		if i > 1 {
			from = fmt.Sprintf("%s.%d", w.path, i-1)
		}
		_ = os.Rename(from, fmt.Sprintf("%s.%d", w.path, i))
	}
	_ = w.open()
}

func (w *logWriter) setWatch(f func(string)) {
	w.mu.Lock()
	w.watch = f
	w.mu.Unlock()
}

func (w *logWriter) close() {
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.file != nil {
		w.file.Close()
		w.file = nil
	}
}

// keep copies a stream into the log until its end.
func (w *logWriter) keep(stream string, r io.Reader) {
	lines := bufio.NewReaderSize(r, maxLine)
	for {
		line, err := lines.ReadSlice('\n')
		if len(line) > 0 {
			w.line(stream, bytes.TrimRight(line, "\r\n"))
		}
		if err != nil && !errors.Is(err, bufio.ErrBufferFull) {
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

// ReadLog reads the last lines of a service's log, oldest first: at most count of
// them (all when count is 0), and none older than since. It needs no supervisor.
func ReadLog(logs, name string, count int, since time.Time) ([]Line, error) {
	var out []Line
	for i := 0; i < logFiles; i++ {
		path := LogPath(logs, name)
		if i > 0 {
			path = fmt.Sprintf("%s.%d", path, i)
		}
		raw, err := os.ReadFile(path)
		if errors.Is(err, os.ErrNotExist) {
			break
		}
		if err != nil {
			return nil, err
		}
		var lines []Line
		for text := range strings.Lines(string(raw)) {
			if l, ok := parseLine(name, strings.TrimSuffix(text, "\n")); ok && !l.At.Before(since) {
				lines = append(lines, l)
			}
		}
		out = append(lines, out...)
		if count > 0 && len(out) >= count {
			return out[len(out)-count:], nil
		}
	}
	return out, nil
}

// FollowLog calls each with every line that is added, until ctx ends.
func FollowLog(ctx context.Context, logs, name string, each func(Line)) {
	path := LogPath(logs, name)
	var f *os.File
	var lines *bufio.Reader
	open := func(atEnd bool) {
		var err error
		if f, err = os.Open(path); err != nil {
			f = nil
			return
		}
		if atEnd {
			_, _ = f.Seek(0, io.SeekEnd)
		}
		lines = bufio.NewReader(f)
	}
	open(true)
	partial := ""
	for ctx.Err() == nil {
		if f != nil {
			text, err := lines.ReadString('\n')
			partial += text
			if err == nil {
				if l, ok := parseLine(name, strings.TrimSuffix(partial, "\n")); ok {
					each(l)
				}
				partial = ""
				continue
			}
			// At the end: has the file been moved aside?
			now, err1 := os.Stat(path)
			ours, err2 := f.Stat()
			if err1 == nil && err2 == nil && !os.SameFile(now, ours) {
				f.Close()
				open(false)
				continue
			}
		} else {
			open(false)
		}
		select {
		case <-ctx.Done():
		case <-time.After(50 * time.Millisecond):
		}
	}
	if f != nil {
		f.Close()
	}
}
