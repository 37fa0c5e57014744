package kept

import (
	"os"
	"strconv"
	"syscall"

	"app.example/trammel/internal/core/base/plain"
)

// Session is the folder for what ends with a person's session, the stamps of shells that follow and
// the answers that are kept: where XDG_RUNTIME_DIR says (XDG Base Directory Specification), or among
// the temporary files. It need not be there; whoever uses it sees to it that it is Own.
func Session(getenv func(string) string) string {
	base := getenv("XDG_RUNTIME_DIR")
	if info, err := os.Stat(base); base == "" || err != nil || !info.IsDir() {
		if base = getenv("TMPDIR"); base == "" {
			base = "/tmp"
		}
	}
	return base + "/trammel-following-" + strconv.Itoa(os.Getuid())
}

// Answers is the folder of answers below it.
func Answers(session string) string { return session + "/answers" }

// Apart tells whether a folder lies in no project: what runs sealed in one may write there, and
// could leave an answer for the next command.
func Apart(folder string) bool {
	for at := folder; at != "" && at != "/"; at = at[:plain.LastIndexByte(at, '/')] {
		if _, err := os.Lstat(at + "/trammel.toml"); err == nil {
			return false
		}
	}
	return plain.HasPrefix(folder, "/")
}

// Own tells whether a folder is this user's, and nobody else's to look into.
func Own(folder string) bool {
	info, err := os.Lstat(folder)
	if err != nil {
		return false
	}
	st, ok := info.Sys().(*syscall.Stat_t)
	return ok && int(st.Uid) == os.Getuid() && info.IsDir() && info.Mode().Perm() == 0o700
}
