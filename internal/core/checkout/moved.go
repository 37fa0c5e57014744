package checkout

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"app.example/trammel/internal/core/base/disk"
	"app.example/trammel/internal/core/checkout/bay"
)

// A bay is kept under the folder of its checkout. The checkout's own id, which lies in .trammel and is noted in the
// person's state with the folder that it was made in, tells a checkout that was moved from one that is another.

// MovedFrom is the folder that this checkout was in before somebody moved or renamed it; "" where nobody did. A
// copy was not moved: the one that it is of is still there.
func (s *State) MovedFrom() string {
	before := s.madeIn()
	if before == "" || before == s.Dir() || localID(nil, before) == s.LocalID {
		return ""
	}
	return before
}

// copied tells whether this checkout was copied with its .trammel, so that two have one id.
func (s *State) copied() bool {
	before := s.madeIn()
	return before != "" && before != s.Dir() && localID(nil, before) == s.LocalID
}

// madeIn is where this checkout's .trammel was made; "" where that is not known.
func (s *State) madeIn() string {
	if s.LocalID == "" {
		return ""
	}
	raw, err := disk.Read(s.madeFile(s.LocalID), disk.MostText)
	if dir := strings.TrimSuffix(string(raw), "\n"); err == nil && filepath.IsAbs(dir) {
		return dir
	}
	return ""
}

// Settle notes that this checkout is at home where it is now.
func (s *State) Settle() error {
	if s.LocalID == "" {
		return nil
	}
	return disk.Write(s.madeFile(s.LocalID), []byte(s.Dir()+"\n"), 0o600)
}

// BaysOf are the bays that a checkout has which is, or was, in a folder.
func (s *State) BaysOf(dir string) (out []bay.Bay) {
	for _, b := range bay.All(s.Places) {
		if found, ok := bay.Find(s.Places, dir, b.Name); ok && found.Records == b.Records {
			out = append(out, found)
		}
	}
	return out
}

// TakeOver gives this checkout what the person's state has of the folder that it was in: bays with their data,
// and homes of languages. Nothing of the bays may run. Where this checkout has such a thing of its own by now,
// that stays; bays must have been made way for.
func (s *State) TakeOver(before string) error {
	was, now := bay.CheckoutID(before), bay.CheckoutID(s.Dir())
	for _, root := range []string{s.Places.Bays(), s.Places.Records()} {
		old, _ := filepath.Glob(filepath.Join(root, "*-"+was))
		for _, folder := range old {
			to := strings.TrimSuffix(folder, was) + now
			if err := os.Rename(folder, to); err != nil {
				return err
			}
		}
	}
	for _, root := range []string{s.Places.Homes(), s.Places.Tools()} {
		if err := os.Rename(filepath.Join(root, was), filepath.Join(root, now)); err != nil && !errors.Is(err, fs.ErrNotExist) && !errors.Is(err, fs.ErrExist) && !strings.Contains(err.Error(), "not empty") {
			return err
		}
	}
	return s.Settle()
}
