package lock

import (
	"bytes"
	"reflect"
	"strings"
)

// Sides takes a lock that version control left in conflict apart: the two versions that
// were merged, as far as they were in conflict. Their digests cannot hold, since what
// was not in conflict is in both; what they say is checked all the same. ok is false
// for a text without conflict markers, or when a side is no lock.
func Sides(source []byte) (ours, theirs *Lock, ok bool) {
	var a, b bytes.Buffer
	const both, first, base, second = 0, 1, 2, 3
	at, marked := both, false
	for line := range strings.Lines(string(source)) {
		switch { // the markers of git merge-file(1), with the base that diff3 style adds
		case at == both && strings.HasPrefix(line, "<<<<<<<"):
			at, marked = first, true
			continue
		case at == first && strings.HasPrefix(line, "|||||||"):
			at = base
			continue
		case (at == first || at == base) && strings.HasPrefix(line, "======="):
			at = second
			continue
		case at == second && strings.HasPrefix(line, ">>>>>>>"):
			at = both
			continue
		}
		if at == both || at == first {
			a.WriteString(line)
		}
		if at == both || at == second {
			b.WriteString(line)
		}
	}
	if !marked || at != both {
		return nil, nil, false
	}
	ours, err := parse(a.Bytes(), false)
	if err != nil {
		return nil, nil, false
	}
	theirs, err = parse(b.Bytes(), false)
	return ours, theirs, err == nil
}

// Agreed is what two locks have in common, to resolve a merged declaration with. apart
// names the tools and roots that they have differently; one that only one of them has
// is taken from there.
func Agreed(ours, theirs *Lock) (agreed *Lock, apart []string) {
	out := *ours
	out.Items = map[string]Item{}
	for _, name := range union(ours.Items, theirs.Items) {
		a, inOurs := ours.Items[name]
		b, inTheirs := theirs.Items[name]
		switch {
		case inOurs && inTheirs && !reflect.DeepEqual(withoutTrees(a), withoutTrees(b)):
			apart = append(apart, name)
		case inOurs:
			out.Items[name] = a
		default:
			out.Items[name] = b
		}
	}
	out.Roots = map[string]map[string]Root{}
	for _, name := range union(ours.Roots, theirs.Roots) {
		a, inOurs := ours.Roots[name]
		b, inTheirs := theirs.Roots[name]
		switch {
		case inOurs && inTheirs && !reflect.DeepEqual(a, b):
			apart = append(apart, "root "+name)
		case inOurs:
			out.Roots[name] = a
		default:
			out.Roots[name] = b
		}
	}
	out.Libraries = map[string]Library{}
	for _, name := range union(ours.Libraries, theirs.Libraries) {
		a, inOurs := ours.Libraries[name]
		b, inTheirs := theirs.Libraries[name]
		switch {
		case inOurs && inTheirs && !reflect.DeepEqual(withoutSetTrees(a), withoutSetTrees(b)):
			apart = append(apart, "libraries "+name)
		case inOurs:
			out.Libraries[name] = a
		default:
			out.Libraries[name] = b
		}
	}
	out.Evidence = common(ours.Evidence, theirs.Evidence)
	out.Pictures = common(ours.Pictures, theirs.Pictures)
	return &out, apart
}

// withoutTrees is an item without what machines learnt of it, which one side may know
// and the other not.
func withoutTrees(i Item) Item {
	on := map[string]map[string]Part{}
	for platform, parts := range i.Platforms {
		on[platform] = map[string]Part{}
		for name, p := range parts {
			p.Tree, p.Sums = "", nil
			on[platform][name] = p
		}
	}
	i.Platforms = on
	return i
}

func withoutSetTrees(l Library) Library {
	on := map[string]Set{}
	for platform, s := range l.On {
		s.Tree, s.Sums = "", nil
		on[platform] = s
	}
	l.On = on
	return l
}

func common(a, b map[string][]string) map[string][]string {
	out := map[string][]string{}
	for name, lines := range a {
		if reflect.DeepEqual(lines, b[name]) {
			out[name] = lines
		}
	}
	return out
}
