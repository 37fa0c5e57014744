// Package platform names the kinds of machine a declaration is locked for, in
// Go's words: "linux/amd64".
package platform

import (
	"runtime"
	"slices"
	"strings"
)

// Platform is an operating system and a processor architecture.
type Platform struct {
	OS   string
	Arch string
}

// Known are the platforms that Trammel itself runs on.
var Known = []string{"darwin/amd64", "darwin/arm64", "linux/amd64", "linux/arm64"}

// Here is the platform of this process.
func Here() Platform { return Platform{runtime.GOOS, runtime.GOARCH} }

// Parse reads "os/arch"; ok is false for what is not in Known.
func Parse(s string) (p Platform, ok bool) {
	os, arch, _ := strings.Cut(s, "/")
	return Platform{os, arch}, slices.Contains(Known, s)
}

func (p Platform) String() string { return p.OS + "/" + p.Arch }
