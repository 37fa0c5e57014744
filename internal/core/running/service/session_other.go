//go:build !linux

package service

import "syscall"

// sessions are the ways to start a supervisor: in a session of its own.
func sessions() []*syscall.SysProcAttr { return []*syscall.SysProcAttr{{Setsid: true}} }
