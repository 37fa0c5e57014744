package standin

import (
	"fmt"
	"strings"
	"time"

	"app.example/trammel/internal/core/base/platform"
)

// PutGo publishes a Go toolchain for this platform: a few files whose go command
// states its version.
func (s *Server) PutGo(version string) {
	here := platform.Here()
	script := fmt.Sprintf("#!/bin/sh\n[ \"$1\" = env ] && dirname \"$(dirname \"$(readlink -f \"$0\")\")\" && exit\necho \"go version go%s %s\"\n", version, here)
	s.PutModule("golang.org/toolchain", "v0.0.1-go"+version+"."+here.OS+"-"+here.Arch,
		File{Name: "bin/go", Content: script},
		File{Name: "bin/gofmt", Content: "#!/bin/sh\nexec cat\n"},
		File{Name: "pkg/tool/" + here.OS + "_" + here.Arch + "/compile", Content: "#!/bin/sh\n"},
		File{Name: "VERSION", Content: "go" + version + "\n"},
		File{Name: "src/fmt/doc.go", Content: "package fmt\n" + strings.Repeat("// "+version+"\n", 4000)},
	)
}

// PutNode publishes a Node.js for this platform and, with it, the npm that goes
// with it.
func (s *Server) PutNode(version string) {
	here := platform.Here()
	arch := map[string]string{"amd64": "x64"}[here.Arch]
	if arch == "" {
		arch = here.Arch
	}
	script := fmt.Sprintf("#!/bin/sh\n[ \"$1\" = --version ] && echo v%s && exit\n[ \"$1\" = -p ] && readlink -f \"$0\" && exit\nexec sh \"$@\"\n", version)
	s.PutNPM("node", version, s.Day, nil, File{Name: "package.json", Content: "{}"})
	s.PutNPM("node-"+here.OS+"-"+arch, version, s.Day, nil,
		File{Name: "bin/node", Content: script, Mode: 0o755}, File{Name: "LICENSE", Content: strings.Repeat("free\n", 2000)})
	s.PutNPM("npm", "10.9.0", time.Date(2025, 1, 1, 0, 0, 0, 0, time.UTC), map[string]string{"node": "^18.17.0 || >=20.5.0"},
		File{Name: "bin/npm-cli.js", Content: "#!/usr/bin/env node\necho 10.9.0\n"}, File{Name: "bin/npx-cli.js", Content: "#!/usr/bin/env node\n"})
	s.PutNPM("npm", "10.11.0", time.Date(2026, 1, 1, 0, 0, 0, 0, time.UTC), map[string]string{"node": "^22.9.0 || >=24.0.0"},
		File{Name: "bin/npm-cli.js", Content: "#!/usr/bin/env node\necho 10.11.0\n"}, File{Name: "bin/npx-cli.js", Content: "#!/usr/bin/env node\n"})
	s.PutNPM("npm", "11.0.0", time.Date(2026, 1, 1, 0, 0, 0, 0, time.UTC), map[string]string{"node": "^22.9.0 || >=24.0.0"},
		File{Name: "bin/npm-cli.js", Content: "#!/usr/bin/env node\necho 11.0.0\n"}, File{Name: "bin/npx-cli.js", Content: "#!/usr/bin/env node\n"})
}

// PutHostGo publishes, as a Go toolchain, a script that hands on to the go command
// at a path: a real one, where packing a whole toolchain would take a minute.
func (s *Server) PutHostGo(version, command string) {
	here := platform.Here()
	s.PutModule("golang.org/toolchain", "v0.0.1-go"+version+"."+here.OS+"-"+here.Arch,
		File{Name: "bin/go", Content: "#!/bin/sh\n[ \"$1 $2\" = 'env GOROOT' ] && dirname \"$(dirname \"$(readlink -f \"$0\")\")\" && exit\nexec " + command + " \"$@\"\n"},
		File{Name: "bin/gofmt", Content: "#!/bin/sh\nexec cat\n"},
	)
}
