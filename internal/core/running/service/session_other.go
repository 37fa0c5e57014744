//go:build !linux

package service

import (
	"errors"
	"os"
	"syscall"
)

// sessions are the ways to start a supervisor: in a session of its own.
func sessions() []*syscall.SysProcAttr { return []*syscall.SysProcAttr{{Setsid: true}} }

// apart is false: there are no namespaces here.
func apart(*syscall.SysProcAttr) bool { return false }

func pair() (a, b *os.File, err error) { return nil, nil, errors.ErrUnsupported }
