package supervise

import (
	"fmt"
	"strings"
	"testing"
)

func TestAStateTurnsOnlyAfterSeveralAnswers(t *testing.T) {
	var h health
	var turns []string
	for i, ok := range []bool{true, false, false, true, false, false, false, false, true, false, true, true, true} {
		if h.see(ok) {
			turns = append(turns, fmt.Sprint(i, h.failing))
		}
	}
	if got := strings.Join(turns, ","); got != "6 true,11 false" {
		t.Error(got)
	}
}
