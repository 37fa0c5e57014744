package bay

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"strconv"
	"strings"

	"github.com/goccy/go-yaml"

	"app.example/trammel/internal/core/base/disk"
	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/written/declare"
)

// ParamsFile is where the values that were chosen for a bay's params are kept.
func (b Bay) ParamsFile() string { return filepath.Join(b.Records, "params.json") }

// ReadParams reads the values that were chosen for a bay; none yet is an empty table.
func (b Bay) ReadParams() (map[string]string, error) {
	values := map[string]string{}
	if err := readRecord(b.ParamsFile(), &values); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return map[string]string{}, err
	}
	return values, nil
}

// Allowed are the chosen values as far as the declaration still allows them.
func Allowed(d *declare.Declaration, chosen map[string]string) map[string]string {
	out := map[string]string{}
	for name, value := range chosen {
		p, ok := d.Param(name)
		if _, err := p.Check(value); ok && err == nil {
			out[name] = value
		}
	}
	return out
}

// Choose adds chosen values to those of before. A wrong name or value is an error that
// says what is allowed.
func Choose(d *declare.Declaration, before, chosen map[string]string) (map[string]string, error) {
	values := Allowed(d, before)
	for name, value := range chosen {
		p, ok := d.Param(name)
		if !ok {
			known := declare.Names(d.Params)
			if len(known) == 0 {
				return nil, fault.New(fault.ErrUsage, "%s declares no params, so there is no %q", d.Project, name)
			}
			return nil, fault.New(fault.ErrUsage, "no param is named %q", name).
				Advise("%s", fault.DidYouMean(name, known))
		}
		var err error
		if values[name], err = p.Check(value); err != nil {
			return nil, err
		}
	}
	return values, nil
}

// SaveParams records chosen values. A record that is the same is not written again.
func (b Bay) SaveParams(values map[string]string) error {
	raw, err := json.MarshalIndent(values, "", "  ")
	if err != nil {
		return err
	}
	if old, err := disk.Read(b.ParamsFile(), disk.MostState); err == nil && string(old) == string(raw) {
		return nil
	}
	return disk.Write(b.ParamsFile(), raw, 0o600)
}

// ParamsIn reads a file of params: a table of names and values in YAML 1.2, of
// which JSON is a part.
func ParamsIn(path string) (map[string]string, error) {
	raw, err := disk.Read(path, disk.MostText)
	if err != nil {
		return nil, fault.New(fault.ErrUsage, "the params cannot be read: %v", err)
	}
	var table map[string]any
	if err := yaml.Unmarshal(raw, &table); err != nil {
		return nil, fault.New(fault.ErrUsage, "%s is no table of params in YAML or JSON: %v", path, err)
	}
	out := map[string]string{}
	for name, value := range table {
		text, ok := paramText(value)
		if list, isList := value.([]any); isList {
			ok = true
			var words []string
			for _, item := range list {
				word, plain := paramText(item)
				ok = ok && plain
				words = append(words, word)
			}
			text = strings.Join(words, ",")
		}
		if !ok {
			return nil, fault.New(fault.ErrUsage, "%s: the value of %s is neither a text, a number, a flag nor a list of them", path, name)
		}
		out[name] = text
	}
	return out, nil
}

func paramText(value any) (string, bool) {
	switch v := value.(type) {
	case string:
		return v, true
	case bool:
		return strconv.FormatBool(v), true
	case uint64, int64, int:
		return fmt.Sprint(v), true
	}
	return "", false
}
