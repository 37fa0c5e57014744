package script

import (
	"os"
	"path/filepath"
	"slices"
	"testing"
)

// A script that names an interpreter of the system is given to the locked one, where a root brings that; every other
// file starts as it is.
func TestScriptsAreLedToTheLockedInterpreter(t *testing.T) {
	dir := t.TempDir()
	link := func(name, target string) {
		t.Helper()
		at := filepath.Join(dir, name)
		if err := os.MkdirAll(filepath.Dir(at), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.Symlink(target, at); err != nil {
			t.Fatal(err)
		}
	}
	link("frame/launch", "/program")
	link("frame/bin/python3", "../launch")
	link("frame/inside/python3", "../roots/weir/usr/bin/python3")
	link("frame/inside/perl", "../roots/weir/usr/bin/perl-other")
	link("plain/bin/x", "/x")
	env := []string{"HOME=/x", "PATH=/usr/bin:" + dir + "/plain/bin:" + dir + "/frame/bin"}
	locked := filepath.Join(dir, "frame/bin/python3")
	for name, c := range map[string]struct {
		text string
		env  []string
		want []string // before the file; nil: as it is
	}{
		"the system's":           {"#!/usr/bin/python3\n", env, []string{locked}},
		"with an argument":       {"#!/usr/bin/python3 -s\n", env, []string{locked, "-s"}},
		"with a space":           {"#! /usr/bin/python3\n", env, []string{locked}},
		"of /bin":                {"#!/bin/python3\n", env, []string{locked}},
		"without an end":         {"#!/usr/bin/python3", env, []string{locked}},
		"of another folder":      {"#!/opt/bin/python3\n", env, nil},
		"another file there":     {"#!/usr/bin/perl\n", env, nil},
		"by its name":            {"#!/usr/bin/env python3\n", env, nil},
		"no interpreter":         {"print(1)\n", env, nil},
		"empty":                  {"", env, nil},
		"no root on the PATH":    {"#!/usr/bin/python3\n", []string{"PATH=/usr/bin:" + dir + "/plain/bin"}, nil},
		"a program that is cut":  {"\x7fELF", env, nil},
		"a program of otherwise": {"\x7fELF\x02\x01\x01 and no more that could be read as one", env, nil},
	} {
		file := filepath.Join(dir, "s")
		if err := os.WriteFile(file, []byte(c.text), 0o755); err != nil {
			t.Fatal(err)
		}
		got, argv, err := Through(file, []string{"./s", "a", "b"}, c.env)
		if err != nil {
			t.Errorf("%s: %v", name, err)
		}
		want, wantArgv := file, []string{"./s", "a", "b"}
		if c.want != nil {
			want, wantArgv = c.want[0], append(append([]string{}, c.want...), file, "a", "b")
		}
		if got != want || !slices.Equal(argv, wantArgv) {
			t.Errorf("%s: %s %q", name, got, argv)
		}
	}
	if got, _, err := Through(filepath.Join(dir, "nowhere"), []string{"x"}, env); err != nil || got != filepath.Join(dir, "nowhere") {
		t.Errorf("what is not there: %s, %v", got, err)
	}
}
