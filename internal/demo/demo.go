// Package demo is the scenario of Heron Weir: a project with its team's catalog,
// embedded, so that everything can be seen at work without a network.
//
// The catalog's tools are real programs that really run. They are packed into
// real archives when the demo is written.
package demo

import (
	"archive/tar"
	"bytes"
	"crypto/sha256"
	"embed"
	"encoding/hex"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/klauspost/compress/gzip"

	"app.example/trammel/internal/core/base/platform"
)

//go:embed all:files
var files embed.FS

// Releases of the catalog's tools, with the day each was published.
var releases = map[string][][2]string{
	"sluice":    {{"1.2.0", "2025-02-11"}, {"1.3.1", "2025-09-30"}, {"1.4.2", "2026-06-17"}},
	"tallydb":   {{"2.0.4", "2025-05-06"}, {"2.1.0", "2026-03-24"}},
	"ladderweb": {{"0.9.3", "2026-01-20"}},
}

// engineVersion is the version of the part that all tools share.
const engineVersion = "1.0.0"

// epoch is the time of every entry in the archives, so that equal content makes
// equal archives.
var epoch = time.Date(2026, 1, 1, 0, 0, 0, 0, time.UTC)

// Write writes the scenario into a folder: the project as heronweir, the catalog
// as catalog. engine is the program that the tools run on: this one.
func Write(dir, engine string) error {
	if err := WriteCatalog(filepath.Join(dir, "catalog"), engine); err != nil {
		return err
	}
	const root = "files/heronweir"
	return fs.WalkDir(files, root, func(name string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		content, err := files.ReadFile(name)
		if err != nil {
			return err
		}
		return write(filepath.Join(dir, "heronweir", strings.TrimPrefix(name, root)), content)
	})
}

func write(path string, content []byte) error {
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		return err
	}
	return os.WriteFile(path, content, 0o644)
}

// WriteCatalog writes the catalog alone, in the format of docs/catalog.md.
func WriteCatalog(dir, engine string) error {
	binary, err := os.ReadFile(engine)
	if err != nil {
		return err
	}
	shared, err := pack(dir, EngineName+"-"+engineVersion, map[string][]byte{"bin/" + EngineName: binary}, gzip.BestSpeed)
	if err != nil {
		return err
	}
	var tools []string
	for tool := range releases {
		tools = append(tools, tool)
	}
	slices.Sort(tools)
	index := "format = 1\nabout = \"Tools of the hut at Heron Weir\"\n"
	for _, tool := range tools {
		var list strings.Builder
		for _, r := range releases[tool] {
			script := fmt.Sprintf("#!/bin/sh\nexec %s %s %s \"$@\"\n", EngineName, tool, r[0])
			note := fmt.Sprintf("%s %s, made for Heron Weir.\n", tool, r[0])
			own, err := pack(dir, tool+"-"+r[0], map[string][]byte{"bin/" + tool: []byte(script), "share/" + tool + ".txt": []byte(note)}, gzip.BestCompression)
			if err != nil {
				return err
			}
			fmt.Fprintf(&list, "[[release]]\nversion = %q\npublished = %s\n", r[0], r[1])
			fmt.Fprintf(&list, "[[release.part]]\nplatform = \"any\"\n%s", own)
			fmt.Fprintf(&list, "[[release.part]]\nname = \"engine\"\nversion = %q\nplatform = %q\n%s\n", engineVersion, platform.Here(), shared)
		}
		card, err := files.ReadFile("files/cards/" + tool + ".toml")
		if err != nil {
			return err
		}
		index += fmt.Sprintf("\n[tool.%s]\n", tool)
		for _, page := range []struct {
			key, path string
			content   []byte
		}{{"card", "cards/" + tool + ".toml", card}, {"releases", "releases/" + tool + ".toml", []byte(list.String())}} {
			if err := write(filepath.Join(dir, page.path), page.content); err != nil {
				return err
			}
			sum := sha256.Sum256(page.content)
			index += fmt.Sprintf("%s = %q\n%s-sha256 = %q\n", page.key, page.path, page.key, hex.EncodeToString(sum[:]))
		}
	}
	return write(filepath.Join(dir, "catalog.toml"), []byte(index))
}

// pack writes an archive and returns the lines that describe it in a release list.
func pack(dir, name string, content map[string][]byte, level int) (string, error) {
	var packed bytes.Buffer
	zip, err := gzip.NewWriterLevel(&packed, level)
	if err != nil {
		return "", err
	}
	t := tar.NewWriter(zip)
	var paths []string
	for path := range content {
		paths = append(paths, path)
	}
	slices.Sort(paths)
	for _, path := range paths {
		mode := int64(0o644)
		if strings.HasPrefix(path, "bin/") {
			mode = 0o755
		}
		if err := t.WriteHeader(&tar.Header{Name: path, Mode: mode, Size: int64(len(content[path])), ModTime: epoch, Typeflag: tar.TypeReg}); err != nil {
			return "", err
		}
		if _, err := t.Write(content[path]); err != nil {
			return "", err
		}
	}
	if err := t.Close(); err != nil {
		return "", err
	}
	if err := zip.Close(); err != nil {
		return "", err
	}
	sum := sha256.Sum256(packed.Bytes())
	file := "files/" + name + ".tar.gz"
	lines := fmt.Sprintf("path = %q\nsize = %d\nsha256 = %q\n", file, packed.Len(), hex.EncodeToString(sum[:]))
	return lines, write(filepath.Join(dir, file), packed.Bytes())
}
