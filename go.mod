module trammel.example/trammel

go 1.26.0

require (
	github.com/ProtonMail/go-crypto v1.3.0
	github.com/bmatcuk/doublestar/v4 v4.10.4
	github.com/creack/pty v1.1.24
	github.com/goccy/go-yaml v1.19.2
	github.com/klauspost/compress v1.20.3
	github.com/pelletier/go-toml/v2 v2.4.3
	github.com/therootcompany/xz v1.0.1
	github.com/urfave/cli/v3 v3.14.0
	golang.org/x/mod v0.42.0
	golang.org/x/sys v0.49.0
	golang.org/x/term v0.47.0
	lukechampine.com/blake3 v1.4.1
	mvdan.cc/sh/v3 v3.14.1
)

require (
	github.com/cloudflare/circl v1.6.0 // indirect
	github.com/klauspost/cpuid/v2 v2.0.9 // indirect
	golang.org/x/crypto v0.33.0 // indirect
)
