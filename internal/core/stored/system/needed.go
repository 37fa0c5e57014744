package system

import (
	"debug/elf"
	"fmt"
	"path"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"

	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/stored/tree"
)

// linkable makes sure that every library that a program or library of the root
// names (DT_NEEDED, System V ABI, "Dynamic Section") is in the root: nothing that
// is linked was left out.
func (b *builder) linkable() error {
	there := map[string]bool{}
	for name := range b.Placed {
		there[path.Base(name)] = true
	}
	type lack struct{ file, library string }
	var lacks []lack
	linked := map[string]bool{} // stems of libraries that something links
	var mu sync.Mutex
	var wait sync.WaitGroup
	files := make(chan string, 256)
	for range runtime.GOMAXPROCS(0) {
		wait.Go(func() {
			for name := range files {
				for _, library := range needed(filepath.Join(b.Dir, filepath.FromSlash(name))) {
					mu.Lock()
					linked[stem(library)] = true
					if !there[library] {
						lacks = append(lacks, lack{name, library})
					}
					mu.Unlock()
				}
			}
		})
	}
	for name, x := range b.Placed {
		if x.Piece >= 0 && mayLink(name, x.Entry) {
			files <- name
		}
	}
	close(files)
	wait.Wait()
	// A library that nothing links is a module that somebody may load: what it links its package
	// only recommends.
	lacks = slices.DeleteFunc(lacks, func(l lack) bool { return strings.Contains(path.Base(l.file), ".so") && !linked[stem(l.file)] })
	if len(lacks) == 0 {
		return nil
	}
	slices.SortFunc(lacks, func(x, y lack) int { return strings.Compare(x.file+x.library, y.file+y.library) })
	var do strings.Builder
	for _, l := range lacks[:min(len(lacks), 5)] {
		fmt.Fprintf(&do, "/%s links %s\n", l.file, l.library)
	}
	do.WriteString("Declare the package that has it as a toolchain of the same source, with package = \"…\".")
	return fault.New(fault.ErrUsage, "the root lacks %d libraries that its programs link", len(lacks)).Advise("%s", do.String())
}

// stem is the name of a library without its versions.
func stem(file string) string {
	before, _, _ := strings.Cut(path.Base(file), ".so")
	return before
}

// mayLink tells whether a file is a program, or a library where the loader looks.
// Modules in folders of their own are loaded when somebody wants them, and packages
// only recommend what such a module links.
func mayLink(name string, e tree.Entry) bool {
	folder := path.Dir(name)
	if strings.Contains(path.Base(name), ".so") {
		return folder == "usr/lib" || folder == "usr/lib64" || path.Dir(folder) == "usr/lib" && strings.HasSuffix(folder, "-gnu")
	}
	if e.Type != tree.Executable {
		return false
	}
	for _, top := range []string{"usr/bin", "usr/sbin", "usr/lib", "usr/libexec"} {
		if strings.HasPrefix(name, top+"/") {
			return true
		}
	}
	return false
}

// needed are the libraries that an ELF file names; none when it is no ELF file.
func needed(file string) []string {
	f, err := elf.Open(file)
	if err != nil {
		return nil
	}
	defer f.Close()
	libraries, err := f.ImportedLibraries()
	if err != nil {
		return nil
	}
	return libraries
}
