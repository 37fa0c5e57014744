//go:build !linux

package proctree

import (
	"os"
	"syscall"
)

// InitName is the argv[0] under which this program would be a tree's init.
const InitName = "trammel-init"

func groupAttributes() *syscall.SysProcAttr { return &syscall.SysProcAttr{Setsid: true} }

func startTree(spec Spec, path string) (*Tree, error) { return startGroup(spec, path) }

// Init is never needed where there are no namespaces.
func Init() { os.Exit(127) }

func programBelow(pid int) int { return pid }

func startWeak(spec Spec, path string) (*Tree, error) { return startGroup(spec, path) }
