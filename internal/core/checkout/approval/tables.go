package approval

import (
	"path"
	"slices"
	"strings"
)

// readers are the commands that only read the files they are given, and run nothing of what is in
// them: POSIX utilities and what shells have built in. A file that is handed to any other command
// is bound. sort is none when it is told to start a program.
var readers = set(`: true false echo printf test [ pwd cd pushd popd read exit return shift break continue wait sleep date
	cat tac head tail wc nl cut paste join comm uniq sort tr rev fold fmt column expand unexpand od xxd hexdump strings
	grep egrep fgrep ls stat file du df basename dirname realpath readlink mkdir rmdir touch chmod chown chgrp rm
	cmp diff cksum md5sum sha1sum sha224sum sha256sum sha384sum sha512sum b2sum b3sum base64`)

// reads tells whether a command line is of a reader.
func reads(words []string) bool {
	if len(words) == 0 || !readers[words[0]] {
		return false
	}
	return words[0] != "sort" || !slices.ContainsFunc(words, func(w string) bool { return strings.HasPrefix(w, "--c") }) // --compress-program
}

// written is how many of the last words of a command line name what is only written: of a copy, where it
// goes.
func written(words []string) int {
	switch {
	case len(words) == 0:
		return 0
	case words[0] == "tee":
		return len(words) - 1
	case len(words) < 3 || !slices.Contains([]string{"cp", "mv", "install", "ln"}, words[0]):
		return 0
	case slices.ContainsFunc(words, func(w string) bool { return strings.HasPrefix(w, "-t") || strings.HasPrefix(w, "--t") }):
		return 0 // the place is named before
	}
	return 1
}

// runners are commands that read files of certain names without being told to, and run what those
// say: in the folder that they are started in.
var runners = table(`
	make gmake bmake: GNUmakefile makefile Makefile BSDmakefile
	npm npx yarn yarnpkg pnpm pnpx bun bunx: package.json .npmrc .yarnrc .yarnrc.yml .pnpmfile.cjs pnpm-workspace.yaml bunfig.toml
	node nodejs tsx ts-node: package.json
	deno: deno.json deno.jsonc package.json
	gulp: gulpfile.js gulpfile.mjs gulpfile.cjs gulpfile.ts
	grunt: Gruntfile.js Gruntfile.cjs
	vite vitest: vite.config.js vite.config.mjs vite.config.ts vite.config.mts vite.config.cjs vitest.config.js vitest.config.mjs vitest.config.ts
	webpack: webpack.config.js webpack.config.cjs webpack.config.mjs webpack.config.ts
	rollup: rollup.config.js rollup.config.mjs rollup.config.cjs rollup.config.ts
	jest: jest.config.js jest.config.mjs jest.config.cjs jest.config.ts package.json
	eslint: eslint.config.js eslint.config.mjs eslint.config.cjs eslint.config.ts .eslintrc.js .eslintrc.cjs
	just: justfile Justfile .justfile
	task: Taskfile.yml Taskfile.yaml taskfile.yml taskfile.yaml
	ninja: build.ninja
	cmake ctest: CMakeLists.txt CMakePresets.json CMakeUserPresets.json CTestTestfile.cmake
	meson: meson.build
	scons: SConstruct Sconstruct sconstruct
	waf: wscript
	rake: Rakefile rakefile Rakefile.rb rakefile.rb
	bundle bundler: Gemfile gems.rb .bundle/config
	rspec: .rspec
	gradle gradlew: build.gradle build.gradle.kts settings.gradle settings.gradle.kts gradle.properties
	gradlew: gradle/wrapper/gradle-wrapper.jar gradle/wrapper/gradle-wrapper.properties
	mvn mvnw: pom.xml .mvn/extensions.xml .mvn/maven.config .mvn/jvm.config
	mvnw: .mvn/wrapper/maven-wrapper.jar .mvn/wrapper/maven-wrapper.properties
	ant: build.xml
	sbt: build.sbt project/plugins.sbt project/build.properties
	lein: project.clj
	mix: mix.exs
	rebar3: rebar.config
	cargo: Cargo.toml build.rs .cargo/config.toml .cargo/config
	composer: composer.json
	tox: tox.ini
	nox: noxfile.py
	inv invoke: tasks.py
	fab: fabfile.py
	doit: dodo.py
	pytest py.test: conftest.py pytest.ini pyproject.toml
	poetry pdm: pyproject.toml
	pip pip3: setup.py setup.cfg pyproject.toml
	R Rscript: .Rprofile .Renviron
	julia: Project.toml
	ghci runghc: .ghci
	gdb: .gdbinit
	lldb: .lldbinit
	vim vi ex: .exrc .vimrc
	latexmk: latexmkrc .latexmkrc
	nextflow: nextflow.config main.nf
	snakemake: Snakefile workflow/Snakefile
	quarto: _quarto.yml
	mkdocs: mkdocs.yml
	sphinx-build: conf.py
`)

// targets are commands whose words without a slash are names of what they shall do: `make test` does
// not mean a folder test. A file of such a name is bound all the same.
var targets = set(`go cargo git make gmake bmake just task ninja rake gradle mvn ant sbt lein mix rebar3 scons waf npm npx yarn pnpm bun deno
	gulp grunt tox nox inv invoke fab doit poetry pdm pip pip3 bundle composer dotnet kubectl
	systemctl service apt apt-get trammel hugo cmake ctest meson swift dune cabal`)

// sqlClients are commands whose texts are SQL: a star in them names no file.
var sqlClients = set("psql mysql mysqld mariadb mariadbd sqlite3")

// isSQL tells whether a text for a command is SQL, with nothing in it that a client hands to a shell.
func isSQL(command, text string) bool {
	base := path.Base(command)
	if !sqlClients[base] || !strings.ContainsAny(text, " \n") || base == "psql" && strings.Contains(text, "`") {
		return false
	}
	for word := range strings.FieldsSeq(text) {
		if strings.HasPrefix(word, ".s") { // .shell and .system, which may be shortened
			return false
		}
	}
	text = strings.ToLower(text)
	return !slices.ContainsFunc([]string{`\!`, "|", "program", "system"}, func(sign string) bool { return strings.Contains(text, sign) })
}

// wrappers are commands that start another one, whose name comes behind.
var wrappers = set("env exec command builtin nohup nice time timeout setsid stdbuf sudo doas xvfb-run flock ionice chrt")

// targeted tells whether the bare words of a command line are names of targets.
func targeted(words []string) bool {
	for i, w := range words {
		if targets[path.Base(w)] {
			return true
		}
		if i == 0 && !wrappers[w] {
			return false
		}
	}
	return false
}

// endings are what a family of interpreters adds to a name by itself.
var endings = map[string][]string{
	"node": strings.Fields(".js .mjs .cjs .ts .mts .cts .jsx .tsx .json /package.json /index.js /index.mjs /index.cjs /index.ts"),
	"ruby": {".rb"}, "perl": {".pl", ".pm"}, "lua": {".lua"}, "R": {".R", ".r"}, "python": {".py", "/__main__.py", "/__init__.py"},
}

// families are the interpreters of each.
var families = map[string]string{
	"node": "node", "nodejs": "node", "deno": "node", "bun": "node", "tsx": "node", "ts-node": "node", "npx": "node", "electron": "node",
	"ruby": "ruby", "irb": "ruby", "perl": "perl", "lua": "lua", "luajit": "lua", "R": "R", "Rscript": "R",
	"python": "python", "pypy": "python", "ipython": "python", "pytest": "python", "gunicorn": "python", "uvicorn": "python", "flask": "python", "celery": "python",
}

// familyOf is the family of a command, "" for none. Numbers of versions at its end do not count.
func familyOf(command string) string {
	base := path.Base(command)
	if f := families[base]; f != "" {
		return f
	}
	return families[strings.TrimRight(base, "0123456789.-")]
}

// runnerOf are the files that a command reads without being told.
func runnerOf(command string) []string {
	base := path.Base(command)
	if files := runners[base]; files != nil {
		return files
	}
	return runners[strings.TrimRight(base, "0123456789.-")]
}

func set(words string) map[string]bool {
	out := map[string]bool{}
	for w := range strings.FieldsSeq(words) {
		out[w] = true
	}
	return out
}

func table(text string) map[string][]string {
	out := map[string][]string{}
	for line := range strings.Lines(strings.TrimSpace(text)) {
		commands, files, _ := strings.Cut(line, ":")
		for c := range strings.FieldsSeq(commands) {
			out[c] = append(out[c], strings.Fields(files)...)
		}
	}
	return out
}
