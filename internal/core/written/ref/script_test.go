package ref

import (
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
)

// hostile are values that would do something if a shell read them.
var hostile = []string{
	"$(touch RAN)", "`touch RAN`", "; touch RAN;", "a; touch RAN #", "' ; touch RAN ; '", `" ; touch RAN ; "`, `\"; touch RAN; \"`, "|| touch RAN", "&& touch RAN", "| touch RAN",
	"> RAN", "$(touch${IFS}RAN)", "${x:=$(touch RAN)}", "END", "} ; touch RAN ; {", ") ; touch RAN ; (", "a b  c", "*", "~", "#", "!", "\\", "\\'", "'", `"`, "$", "$'", "@", "{a,b}", "-n", "x=$(touch RAN)",
	"a[$(touch RAN)]", "esac; touch RAN", "fi; touch RAN", "\xff\xfe", "ü $(touch RAN)",
}

// Whatever a value is, a script gets it as it is, and nothing in it is run, in each place where a script
// may have one, by each shell.
func TestAValueIsNeverCode(t *testing.T) {
	t.Parallel()
	places := map[string]string{
		"bare": "printf '%s' @{v}", "within a word": "printf '%s' ''@{v}''", "double": `printf '%s' "@{v}"`, "single": "printf '%s' '@{v}'", "assigned": "x=@{v}; printf '%s' \"$x\"",
		"exported": "export X=@{v}; printf '%s' \"$X\"", "here": "cat <<END\n@{v}\nEND", "here, tabs": "cat <<-END\n\t@{v}\n\tEND", "here, in quotes": "cat <<'END'\n@{v}\nEND", "here, in a line": "cat <<END | cut -c3-\n: @{v}\nEND",
		"substituted": `printf '%s' "$(printf '%s' @{v})"`, "substituted, double": `printf '%s' "$(printf '%s' "@{v}")"`, "a pattern": `case @{v} in @{v}) printf '%s' @{v};; esac`,
		"a loop": "for x in @{v}; do printf '%s' \"$x\"; done", "a function": "f() { printf '%s' \"$1\"; }; f @{v}", "a condition": "if [ @{v} = '@{v}' ]; then printf '%s' @{v}; fi",
		"a subshell": "(printf '%s' @{v})", "piped": "printf '%s' @{v} | cat", "a default": "printf '%s' ${unset:-@{v}}", "behind a comment": "true # @{v}\nprintf '%s' @{v}",
		"a positional of another shell": "sh -c 'printf \"%s\" \"$1\"' name @{v}", "a file": "printf '%s' @{v} >out; cat out",
	}
	for name, script := range places {
		for _, value := range hostile {
			filled, err := Script(script, nil, func(string) (string, bool, error) { return value, true, nil })
			if err != nil {
				if !strings.HasPrefix(name, "here") || value != "END" {
					t.Errorf("%s: %q: %v", name, value, err)
				}
				continue
			}
			for _, shell := range []string{"dash", "bash"} {
				if _, err := exec.LookPath(shell); err != nil {
					continue
				}
				dir := t.TempDir()
				c := exec.Command(shell, "-c", filled)
				c.Dir = dir
				out, err := c.Output()
				if _, ran := os.Lstat(filepath.Join(dir, "RAN")); ran == nil {
					t.Errorf("%s: %s ran %q, as\n%s", name, shell, value, filled)
				}
				if got := strings.TrimSuffix(string(out), "\n"); err != nil || got != value {
					t.Errorf("%s: %s gives %q for %q (%v), as\n%s", name, shell, got, value, err, filled)
				}
			}
		}
	}
}

// Where a value would be a part of a program no value is taken in which a character means anything.
func TestAValueThatWouldBeCodeIsRefused(t *testing.T) {
	t.Parallel()
	for script, language := range map[string]Language{
		"sh -c 'echo @{v}'": nil, `bash -ec "echo @{v}"`: nil, `env A=1 dash -c @{v}`: nil, "eval echo @{v}": nil, "trap 'echo @{v}' EXIT": nil, "echo `echo @{v}`": nil, "x=$((@{v} + 1))": nil,
		"echo $@{v}": nil, "echo ${@{v}}": nil, "@{v}=1": nil, `echo "${x:-@{v}}"`: nil, "python3 -c 'print(\"@{v}\")'": nil, "python3.12 -c @{v}": nil, "perl -ne @{v} a": nil, "node --eval=@{v}": nil,
		"node -e @{v}": nil, "awk '/@{v}/' a": nil, "sed s/a/@{v}/ b": nil, "ssh host ls @{v}": nil, "find . -exec sh -c 'echo @{v}' ';'": nil, "ls | xargs sh -c @{v}": nil, "su me -c @{v}": nil,
		`echo "$(bash -c "$(echo @{v})")"`: nil, "for @{v} in a; do :; done": nil, "@{v}() { :; }": nil, "psql --command @{v} | bash --command=@{v}": nil,
		"print('@{v}')": {"python3", "-c"}, "echo @{v}": {"fish", "-c"}, "declare -A a; a[@{v}]=1": {"bash", "-c"}, "[[ @{v} -eq 1 ]]": {"bash", "-c"}, "echo @(@{v}|b)": {"bash", "-c"}, "for ((i=@{v};i<1;i++)); do :; done": {"bash", "-c"},
		"let x=@{v}": {"bash", "-c"}, "((x=@{v}))": {"bash", "-c"}, "echo ${x[@{v}]}": {"bash", "-c"}, "echo ${x:@{v}}": {"bash", "-c"},
	} {
		var code *Code
		_, err := Script(script, language, func(string) (string, bool, error) { return "$(touch RAN)", true, nil })
		if !errors.As(err, &code) || code.Risk == "" || !strings.Contains(code.WayOut(), "variables") {
			t.Errorf("%s takes any value: %v", script, err)
		}
		if _, err := Script(script, language, func(string) (string, bool, error) { return "7", true, nil }); err != nil {
			t.Errorf("%s does not take a number: %v", script, err)
		}
	}
	if _, err := Argv([]string{"bash", "-c", "echo @{v}"}, func(string) (string, bool, error) { return "a;b", true, nil }); err == nil {
		t.Error("a program among the words of a command takes any value")
	}
	if out, err := Argv([]string{"bash", "-c", "echo \"$1\"", "x", "@{v}"}, func(string) (string, bool, error) { return "a;b", true, nil }); err != nil || out[4] != "a;b" {
		t.Errorf("%q %v", out, err)
	}
}

// What is filled in later stays as it is written, and no value brings a reference with it.
func TestValuesAreFilledInOneAfterTheOther(t *testing.T) {
	t.Parallel()
	first, err := Script("echo @{a} @{b} @@{c}", nil, func(name string) (string, bool, error) { return "@{b}", name == "a", nil })
	if err != nil || first != "echo '@@{b}' @{b} @@{c}" {
		t.Fatalf("%q %v", first, err)
	}
	second, err := Script(first, nil, func(string) (string, bool, error) { return "x y", true, nil })
	if err != nil || second != "echo '@{b}' 'x y' @{c}" {
		t.Errorf("%q %v", second, err)
	}
}
