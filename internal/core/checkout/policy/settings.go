package policy

import (
	"path/filepath"

	"app.example/trammel/internal/core/base/disk"
	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/base/page"
	"app.example/trammel/internal/core/base/reading"
)

// SettingsName is the name of a person's or a machine's own settings, in the folder of
// configuration and in system folders.
const SettingsName = "settings.toml"

// Settings are what a person, or whoever keeps the machine, has decided for all projects.
type Settings struct {
	ByCommits bool // consent is to every tracked file: commits of others ask
}

// What consent may be to.
const (
	consentFiles   = "files"   // what is declared, and the files that it names
	consentCommits = "commits" // all that version control tracks
)

// ReadSettings reads the settings of a person and of the machine. The stricter holds.
func ReadSettings(r *reading.Reader, config string, system []string) (out Settings, err error) {
	for _, dir := range append([]string{config}, system...) {
		file := filepath.Join(dir, SettingsName)
		raw, err := r.Read(file, disk.MostText)
		if disk.Gone(err) {
			continue
		}
		if err != nil {
			return out, fault.New(fault.ErrUsage, "%s %s", file, disk.InWords(err))
		}
		p := page.Parse(file, raw)
		p.About = "a file of settings"
		if p.Choice(p.Root, "consent", consentFiles, consentCommits) == consentCommits {
			out.ByCommits = true
		}
		p.Close(p.Root)
		if err := p.Err(); err != nil {
			return out, err
		}
	}
	return out, nil
}

// ByCommits tells whether a policy asks for consent to every tracked file.
func (l List) ByCommits() bool {
	for _, p := range l {
		if p.commits {
			return true
		}
	}
	return false
}
