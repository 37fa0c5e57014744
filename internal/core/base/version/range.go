package version

import "strings"

// InRange tells whether v is in a range as package.json writes them in engines:
// alternatives with ||, each a list of comparators with spaces between, where ^,
// ~, x and hyphen ranges are short for pairs of bounds (node-semver, "Ranges").
// A range that does not parse holds nothing.
func InRange(v, ranges string) bool {
	for alternative := range strings.SplitSeq(ranges, "||") {
		if inAlternative(v, strings.TrimSpace(alternative)) {
			return true
		}
	}
	return false
}

func inAlternative(v, alternative string) bool {
	if low, high, ok := strings.Cut(alternative, " - "); ok {
		alternative = ">=" + strings.TrimSpace(low) + " <=" + strings.TrimSpace(high)
	}
	for _, op := range []string{">=", "<=", ">", "<", "=", "^", "~"} {
		alternative = strings.ReplaceAll(alternative, op+" ", op)
	}
	if Semver.Prerelease(v) && !strings.Contains(alternative, "-") {
		return false
	}
	for comparator := range strings.FieldsSeq(alternative) {
		if !comparatorHolds(v, comparator) {
			return false
		}
	}
	return true
}

func comparatorHolds(v, comparator string) bool {
	op := strings.TrimRight(comparator, "0123456789.xX*-+abcdefghijklmnopqrstuvwyzABCDEFGHIJKLMNOPQRSTUVWYZ")
	bare := strings.TrimPrefix(strings.TrimPrefix(comparator, op), "v")
	core, pre, _ := splitSemver(bare)
	var fixed []string // the numbers before the first x
	for n := range strings.SplitSeq(core, ".") {
		if n == "x" || n == "X" || n == "*" || n == "" {
			break
		}
		if !allDigits(n) {
			return false
		}
		fixed = append(fixed, n)
	}
	full := append(append([]string{}, fixed...), "0", "0", "0")[:3]
	low := strings.Join(full, ".")
	if pre != "" {
		low += "-" + pre
	}
	within := func(keep int) bool { // v is at least low and shares the first numbers
		if Semver.Compare(v, low) < 0 {
			return false
		}
		vc, _, _ := splitSemver(v)
		numbers := strings.Split(vc, ".")
		for i := range min(keep, len(fixed)) {
			if i >= len(numbers) || compareDigits(numbers[i], fixed[i]) != 0 {
				return false
			}
		}
		return true
	}
	switch op {
	case "", "=":
		if len(fixed) == 3 {
			return Semver.Compare(v, low) == 0
		}
		return within(len(fixed))
	case "~":
		return within(min(len(fixed), 2))
	case "^":
		keep := 1 // up to and with the first number that is not 0
		for keep < len(fixed) && strings.Trim(fixed[keep-1], "0") == "" {
			keep++
		}
		return within(keep)
	case ">=":
		return Semver.Compare(v, low) >= 0
	case "<":
		return Semver.Compare(v, low) < 0
	case ">": // >1.2 means from 1.3 on
		return Semver.Compare(v, low) > 0 && (len(fixed) == 3 || !within(len(fixed)))
	case "<=": // <=1.2 takes in all of 1.2
		return Semver.Compare(v, low) <= 0 || len(fixed) < 3 && within(len(fixed))
	}
	return false
}
