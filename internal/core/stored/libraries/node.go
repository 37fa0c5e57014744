package libraries

import (
	"encoding/json"
	"fmt"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"app.example/trammel/internal/core/base/disk"
)

// NodeRoots are the folders, from the set's own, in which packages lie: "" for
// node_modules itself, and those of workspaces with packages of their own. places are
// those of all packages.
func NodeRoots(places []string) []string {
	var out []string
	for _, place := range places {
		before, _, _ := strings.Cut("/"+place, "/node_modules/")
		if before = strings.TrimPrefix(before, "/"); !slices.Contains(out, before) {
			out = append(out, before)
		}
	}
	slices.Sort(out)
	return out
}

// NodeCommands makes the commands that packages directly in a node_modules bring, as links
// in its .bin (npm documentation, "folders", Executables). Two packages that bring one
// command leave it to the first.
func NodeCommands(dir, root string, places []string) error {
	modules := path.Join(root, "node_modules")
	for _, place := range slices.Sorted(slices.Values(places)) {
		name, direct := strings.CutPrefix(place, modules+"/")
		if !direct || strings.Contains(name, "node_modules/") {
			continue
		}
		raw, err := disk.ReadWithin(dir, place+"/package.json", disk.MostText)
		if err != nil {
			return fmt.Errorf("%s has no package.json that can be read", place)
		}
		var doc struct {
			Bin any `json:"bin"`
		}
		if json.Unmarshal(raw, &doc) != nil {
			return fmt.Errorf("%s: its package.json is not JSON", place)
		}
		commands := map[string]string{}
		switch bin := doc.Bin.(type) {
		case string:
			commands[path.Base(name)] = bin
		case map[string]any:
			for command, file := range bin {
				if text, ok := file.(string); ok && command == path.Base(command) && command != "." && command != ".." {
					commands[command] = text
				}
			}
		}
		for command, file := range commands {
			target := path.Join(name, file)
			if !strings.HasPrefix(target, name+"/") {
				return fmt.Errorf("%s: its command %s lies outside of it", place, command)
			}
			full := filepath.Join(dir, filepath.FromSlash(path.Join(modules, target)))
			info, err := os.Lstat(full)
			if err != nil || !info.Mode().IsRegular() {
				continue // npm makes none either
			}
			if err := os.Chmod(full, info.Mode().Perm()|0o111); err != nil {
				return err
			}
			link := filepath.Join(dir, filepath.FromSlash(path.Join(modules, ".bin", command)))
			if err := os.MkdirAll(filepath.Dir(link), 0o755); err != nil {
				return err
			}
			if _, err := os.Lstat(link); err == nil {
				continue
			}
			if err := os.Symlink("../"+target, link); err != nil {
				return err
			}
		}
	}
	return nil
}
