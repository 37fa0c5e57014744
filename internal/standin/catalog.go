package standin

import (
	"crypto/sha256"
	"fmt"
	"os"
	"path/filepath"
)

// Tool has one command of its name, and an archive (tar.gz, with bin/NAME) for each of
// its versions 1.0, 1.1, …
type Tool struct {
	Name     string
	Archives [][]byte
	Versions []string // of the archives, where these are others
	Card     string   // what its card says besides where it comes from
}

// Publish writes a catalog of tools into a folder.
func Publish(root string, tools []Tool) error {
	index := "format = 1\n"
	for _, t := range tools {
		card := fmt.Sprintf("\n[[from]]\nkind = \"catalog\"\n[[from.part]]\nbin = { %s = \"bin/%s\" }\n", t.Name, t.Name)
		card = "about = \"The tool " + t.Name + "\"\n" + t.Card + card
		list := ""
		for v, archive := range t.Archives {
			name := fmt.Sprintf("1.%d", v)
			if t.Versions != nil {
				name = t.Versions[v]
			}
			path := fmt.Sprintf("files/%s-%s.tar.gz", t.Name, name)
			if err := put(filepath.Join(root, path), archive); err != nil {
				return err
			}
			list += fmt.Sprintf("[[release]]\nversion = %q\npublished = 2026-0%d-01\n[[release.part]]\nplatform = \"any\"\npath = %q\nsize = %d\nsha256 = \"%x\"\n", name, v+1, path, len(archive), sha256.Sum256(archive))
		}
		for _, x := range []struct{ path, text string }{{"cards/" + t.Name + ".toml", card}, {"releases/" + t.Name + ".toml", list}} {
			if err := put(filepath.Join(root, x.path), []byte(x.text)); err != nil {
				return err
			}
		}
		index += fmt.Sprintf("[tool.%s]\ncard = \"cards/%s.toml\"\ncard-sha256 = \"%x\"\nreleases = \"releases/%s.toml\"\nreleases-sha256 = \"%x\"\n",
			t.Name, t.Name, sha256.Sum256([]byte(card)), t.Name, sha256.Sum256([]byte(list)))
	}
	return put(filepath.Join(root, "catalog.toml"), []byte(index))
}

func put(path string, content []byte) error {
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		return err
	}
	return os.WriteFile(path, content, 0o644)
}
