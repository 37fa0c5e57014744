package supervise

import (
	"fmt"
	"os"
	"os/exec"
	"testing"
	"time"

	"app.example/trammel/internal/core/checkout/bay"
	"app.example/trammel/internal/core/kernel/process"
)

// Only what an earlier supervisor left in this start of the system is waited for and ended.
func TestANoteOfAnEarlierStartOfTheSystemIsOfNoProcess(t *testing.T) {
	for _, c := range []struct {
		name, boot string
		ends       bool
	}{
		{"of this start", process.Boot(), true},
		{"of an earlier one", "0d1c5a4e-0000-4000-8000-000000000000", false},
	} {
		sleeper := exec.Command("sleep", "30")
		if err := sleeper.Start(); err != nil {
			t.Fatal(err)
		}
		gone := make(chan struct{})
		go func() { _ = sleeper.Wait(); close(gone) }()
		b := bay.Bay{Records: t.TempDir()}
		p := process.ProcessOf(sleeper.Process.Pid)
		if err := os.WriteFile(treesFile(b), fmt.Appendf(nil, "%d %d %s lane\nnonsense\n", p.Pid, p.Started, c.boot), 0o600); err != nil {
			t.Fatal(err)
		}
		trees := openTrees(b, func(string) {})
		select {
		case <-trees.gone:
		case <-time.After(20 * time.Second):
			t.Errorf("%s: it is waited for without end", c.name)
		}
		if alive := p.Alive(); alive == c.ends {
			t.Errorf("%s: the process is alive: %v", c.name, alive)
		}
		_ = sleeper.Process.Kill()
		<-gone
	}
}
