//go:build !linux

package proctree

import (
	"syscall"
)

func groupAttributes() *syscall.SysProcAttr { return &syscall.SysProcAttr{Setsid: true} }

func startTree(spec Spec, path string) (*Tree, error) { return startGroup(spec, path) }

// Init is never played where there are no namespaces.
func Init() {}

func programBelow(pid int) int { return pid }

func startWeak(spec Spec, path string) (*Tree, error) { return startGroup(spec, path) }
