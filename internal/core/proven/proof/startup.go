package proof

import (
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"app.example/trammel/internal/core/base/disk"
)

// startFiles are what shells read when they start (bash(1), zsh(1), fish(1)), below the
// home folder or of the system.
var startFiles = []string{
	"~/.bashrc", "~/.bash_profile", "~/.bash_login", "~/.profile", "~/.bash_aliases",
	"~/.zshenv", "~/.zprofile", "~/.zshrc", "~/.zlogin", "~/.config/fish/config.fish", "~/.config/fish/conf.d/*.fish",
	"/etc/profile", "/etc/profile.d/*.sh", "/etc/bash.bashrc", "/etc/zsh/zshrc", "/etc/zsh/zshenv", "/etc/fish/config.fish", "/etc/environment",
}

// startLine finds the line of a start-up file that speaks of a folder or sets a
// variable, as "~/.bashrc:12"; "" when none does. The last one of a file counts, since
// it has the last word.
func startLine(home, folder, variable string) string {
	var texts []string
	if folder != "" {
		texts = append(texts, folder)
		if below, ok := strings.CutPrefix(folder, home+"/"); ok && home != "" {
			texts = append(texts, "$HOME/"+below, "${HOME}/"+below, "~/"+below)
		}
	}
	for _, name := range startFiles {
		var files []string
		if below, ok := strings.CutPrefix(name, "~/"); ok {
			if home == "" {
				continue
			}
			files, _ = filepath.Glob(filepath.Join(home, below))
		} else {
			files, _ = filepath.Glob(name)
		}
		for _, file := range files {
			if n := lastLine(file, texts, variable); n > 0 {
				if below, ok := strings.CutPrefix(file, home+"/"); ok && home != "" {
					file = "~/" + below
				}
				return fmt.Sprintf("%s:%d", file, n)
			}
		}
	}
	return ""
}

func lastLine(file string, texts []string, variable string) (last int) {
	raw, err := disk.Read(file, disk.MostState)
	if err != nil {
		return 0
	}
	n := 0
	for line := range strings.Lines(string(raw)) {
		n++
		line = strings.TrimSpace(line)
		if strings.HasPrefix(line, "#") {
			continue
		}
		for _, text := range texts {
			at := strings.Index(line, text)
			// The folder itself, not one whose name begins alike.
			if at >= 0 && !strings.HasPrefix(line[at+len(text):], "-") && (at+len(text) == len(line) || !isWord(line[at+len(text)])) {
				last = n
			}
		}
		if variable == "" {
			continue
		}
		for _, before := range []string{"", "export ", "typeset -x ", "declare -x "} {
			if strings.HasPrefix(line, before+variable+"=") {
				last = n
			}
		}
		if f := strings.Fields(line); len(f) > 2 && (f[0] == "set" || f[0] == "setenv") && slices.Contains(f[1:len(f)-1], variable) {
			last = n
		}
	}
	return last
}

func isWord(c byte) bool {
	return c == '_' || c >= '0' && c <= '9' || c >= 'A' && c <= 'Z' || c >= 'a' && c <= 'z'
}
