package declare

import (
	"fmt"
	"strings"
)

// shellNames are variables that a shell keeps for itself: it refuses to set them or to
// give them back, counts or computes them, or runs or reads what they say at each prompt,
// so that a shell which follows folders would be left broken, or stop following. Sources:
// bash(1), "Shell Variables"; zshparam(1), "Parameters Set By The Shell" and "Parameters
// Used By The Shell", zshcontrib's hook arrays; fish's "Special variables". What all
// three use as plain texts (HOME, IFS, PS1, LANG, …) is not among them, since it can be
// given back.
var shellNames = map[string]string{
	"bash": `_ BASH BASHOPTS BASHPID BASH_ALIASES BASH_ARGC BASH_ARGV BASH_ARGV0 BASH_CMDS BASH_COMMAND BASH_COMPAT
		BASH_EXECUTION_STRING BASH_LINENO BASH_LOADABLES_PATH BASH_MONOSECONDS BASH_REMATCH BASH_SOURCE BASH_SUBSHELL BASH_TRAPSIG
		BASH_VERSINFO BASH_VERSION BASH_XTRACEFD COMP_CWORD COMP_LINE COMP_POINT COMP_WORDS COPROC DIRSTACK
		EPOCHREALTIME EPOCHSECONDS EUID FUNCNAME GROUPS HISTCMD LINENO MAPFILE OLDPWD OPTARG OPTERR OPTIND PIPESTATUS PPID
		PROMPT_COMMAND PS0 PWD RANDOM READLINE_ARGUMENT READLINE_LINE READLINE_MARK READLINE_POINT REPLY SECONDS SHELLOPTS SHLVL SRANDOM UID`,
	"zsh": `ARGC EGID ERRNO FPATH GID HISTCMD MODULE_PATH TRY_BLOCK_ERROR TRY_BLOCK_INTERRUPT TTY TTYIDLE USERNAME
		ZSH_ARGZERO ZSH_EVAL_CONTEXT ZSH_EXECUTION_STRING ZSH_NAME ZSH_PATCHLEVEL ZSH_SCRIPT ZSH_SUBSHELL ZSH_VERSION
		argv aliases builtins cdpath chpwd_functions commands dirstack dis_aliases dis_builtins dis_functions dis_functions_source
		dis_galiases dis_patchars dis_reswords dis_saliases errnos fignore fpath funcfiletrace funcsourcetrace funcstack functions
		functions_source functrace galiases histchars history historywords jobdirs jobstates jobtexts keymaps mailpath manpath
		module_path modules nameddirs options parameters path patchars periodic_functions pipestatus precmd_functions
		preexec_functions prompt psvar reswords saliases signals status sysparams termcap terminfo userdirs usergroups watch
		widgets zle_bracketed_paste zsh_eval_context zsh_scheduled_events zshaddhistory_functions zshexit_functions`,
	"fish": `CMD_DURATION fish_bind_mode fish_exit_code fish_kill_signal fish_killring fish_pid fish_user_paths hostname umask version`,
}

// NoVariable says why a name cannot be that of a variable, whoever sets it: a declaration,
// a card or a lock; "" when it can.
func NoVariable(name string) string {
	switch {
	case !whole(variableName, name):
		return fmt.Sprintf("%q cannot name a variable", name)
	case name == "PATH" || strings.HasPrefix(name, "TRAMMEL"):
		return name + " is made by Trammel and cannot be declared"
	case shellsOwn(name) != "":
		return fmt.Sprintf("%s is %s's own: a shell that comes into the project could not give it back", name, shellsOwn(name))
	}
	return ""
}

// shellsOwn names the shell that keeps a variable for itself, or is "". What begins with
// __trammel is the integration's own.
func shellsOwn(name string) string {
	if strings.HasPrefix(name, "__trammel") || strings.HasPrefix(name, "__TRAMMEL") {
		return "the integration of shells"
	}
	if strings.HasPrefix(name, "BASH_FUNC_") {
		return "bash"
	}
	for _, shell := range []string{"bash", "zsh", "fish"} {
		for own := range strings.FieldsSeq(shellNames[shell]) {
			if own == name {
				return shell
			}
		}
	}
	return ""
}
