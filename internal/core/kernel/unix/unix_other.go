//go:build !linux

// Package unix is for Linux: elsewhere the roles that need it do not exist.
package unix
