package main

import (
	"bytes"
	"fmt"
	"os"
	"os/exec"
	"runtime"
	"strings"
	"time"
)

// result is a row that was measured.
type result struct {
	row
	ratio     float64
	low, high float64 // quartiles; zero where there are none
}

func (x result) spread() string {
	if x.high == 0 {
		return ""
	}
	return fmt.Sprintf("%.2f–%.2f", x.low, x.high)
}

func (x result) wanted() string {
	if x.goal == 0 {
		return ""
	}
	return fmt.Sprintf("%.2f×", x.goal)
}

func (x result) verdict() string {
	switch {
	case x.goal == 0:
		return ""
	case x.ratio > x.goal:
		return "missed"
	}
	return "holds"
}

// The parts of the page of figures that a run writes anew; what is around them a person
// wrote.
const (
	tableFrom = "<!-- figures: from here -->\n"
	tableTo   = "<!-- figures: to here -->\n"
)

// writePage puts the table, and the machine that it was measured on, into a page.
func writePage(file string, results []result, remarks []string) error {
	page, err := os.ReadFile(file)
	if err != nil {
		return err
	}
	head, rest, ok := bytes.Cut(page, []byte(tableFrom))
	_, tail, ok2 := bytes.Cut(rest, []byte(tableTo))
	if !ok || !ok2 {
		return fmt.Errorf("%s has no place for the figures", file)
	}
	var b bytes.Buffer
	b.Write(head)
	b.WriteString(tableFrom)
	fmt.Fprintf(&b, "Measured on %s, %s.\n\n", time.Now().Format("2 January 2006"), machine())
	b.WriteString("| what | against | ratio | quartiles | goal | |\n| --- | --- | ---: | ---: | ---: | --- |\n")
	for _, x := range results {
		fmt.Fprintf(&b, "| %s | %s | %.2f× | %s | %s | %s |\n", x.name, x.floor, x.ratio, x.spread(), x.wanted(), x.verdict())
	}
	b.WriteString("\n")
	for _, r := range remarks {
		b.WriteString(r + "\n")
	}
	b.WriteString(tableTo)
	b.Write(tail)
	return os.WriteFile(file, b.Bytes(), 0o644)
}

// machine says in words what the figures were measured on.
func machine() string {
	field := func(file, name string) string {
		raw, _ := os.ReadFile(file)
		for line := range strings.Lines(string(raw)) {
			if key, value, ok := strings.Cut(line, ":"); ok && strings.TrimSpace(key) == name {
				return strings.TrimSpace(value)
			}
		}
		return ""
	}
	parts := []string{fmt.Sprintf("%s/%s, %d cores", runtime.GOOS, runtime.GOARCH, runtime.NumCPU())}
	if cpu := field("/proc/cpuinfo", "model name"); cpu != "" {
		parts = append(parts, cpu)
	}
	if memory := field("/proc/meminfo", "MemTotal"); memory != "" {
		var kib int
		_, _ = fmt.Sscan(memory, &kib)
		parts = append(parts, fmt.Sprintf("%d GiB of memory", kib>>20))
	}
	if out, err := exec.Command("uname", "-sr").Output(); err == nil {
		parts = append(parts, strings.TrimSpace(string(out)))
	}
	if out, err := exec.Command("stat", "-f", "-c", "%T", os.TempDir()).Output(); err == nil {
		parts = append(parts, strings.TrimSpace(string(out)))
	}
	return strings.Join(append(parts, runtime.Version()), ", ")
}
