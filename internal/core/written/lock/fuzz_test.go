package lock

import "testing"

// FuzzConflict reads locks as a merge leaves them.
func FuzzConflict(f *testing.F) {
	f.Add([]byte("format = 1\n<<<<<<< ours\nproject = \"a\"\n||||||| base\n=======\nproject = \"b\"\n>>>>>>> theirs\n"))
	f.Add([]byte("<<<<<<<\n=======\n"))
	f.Fuzz(func(t *testing.T, source []byte) {
		ours, theirs, ok := Sides(source)
		if !ok {
			return
		}
		agreed, _ := Agreed(ours, theirs)
		for name := range agreed.Items {
			_, a := ours.Items[name]
			_, b := theirs.Items[name]
			if !a && !b {
				t.Errorf("%q is agreed on, and neither side has it", name)
			}
		}
		agreed.ID()
	})
}
