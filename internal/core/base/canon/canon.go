// Package canon writes values as canonical JSON (RFC 8785, JSON Canonicalization
// Scheme) and takes their SHA-256, so that equal meaning always has equal bytes
// and one digest.
//
// It takes strings, booleans, integers, nil, slices and string-keyed maps. It
// takes no floating-point numbers, because nothing Trammel fixes is one.
package canon

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"reflect"
	"slices"
	"strconv"
	"strings"
	"unicode/utf16"
	"unicode/utf8"
)

// Map and List are short names for the two containers.
type (
	Map  = map[string]any
	List = []any
)

// JSON is the canonical form of v. It panics on a type that the package does not
// take: that is a mistake in the program, never in what a person wrote.
func JSON(v any) []byte { return appendValue(nil, v) }

// Digest is "sha256:" and the hex SHA-256 of the canonical form of v.
func Digest(v any) string {
	sum := sha256.Sum256(JSON(v))
	return "sha256:" + hex.EncodeToString(sum[:])
}

// Short shows a digest as people compare it: two groups of four hex digits.
func Short[D ~string](digest D) string {
	_, hexDigits, ok := strings.Cut(string(digest), ":")
	if !ok || len(hexDigits) < 8 {
		return string(digest)
	}
	return hexDigits[:4] + " " + hexDigits[4:8]
}

// Strings turns a slice of strings into a List.
func Strings(in []string) List {
	out := make(List, len(in))
	for i, s := range in {
		out[i] = s
	}
	return out
}

// Table turns a map of strings into a Map.
func Table(in map[string]string) Map {
	out := make(Map, len(in))
	for k, v := range in {
		out[k] = v
	}
	return out
}

func appendValue(b []byte, v any) []byte {
	switch v := v.(type) {
	case nil:
		return append(b, "null"...)
	case bool:
		return strconv.AppendBool(b, v)
	case int:
		return strconv.AppendInt(b, int64(v), 10)
	case int64:
		return strconv.AppendInt(b, v, 10)
	case string:
		return appendString(b, v)
	case []string:
		return appendValue(b, Strings(v))
	case map[string]string:
		return appendValue(b, Table(v))
	case []any:
		b = append(b, '[')
		for i, e := range v {
			if i > 0 {
				b = append(b, ',')
			}
			b = appendValue(b, e)
		}
		return append(b, ']')
	case map[string]any:
		keys := make([]string, 0, len(v))
		for k := range v {
			keys = append(keys, k)
		}
		slices.SortFunc(keys, compareUTF16)
		b = append(b, '{')
		for i, k := range keys {
			if i > 0 {
				b = append(b, ',')
			}
			b = append(appendString(b, k), ':')
			b = appendValue(b, v[k])
		}
		return append(b, '}')
	default:
		if s := reflect.ValueOf(v); s.Kind() == reflect.String { // an id or a digest with a type of its own
			return appendString(b, s.String())
		}
		panic(fmt.Sprintf("canon: a value of type %T has no canonical form", v))
	}
}

func ascii(s string) bool {
	for i := range len(s) {
		if s[i] >= 0x80 {
			return false
		}
	}
	return true
}

// compareUTF16 orders names by their UTF-16 code units (RFC 8785, 3.2.3).
func compareUTF16(a, b string) int {
	if ascii(a) && ascii(b) { // where both orders are one
		return strings.Compare(a, b)
	}
	return slices.Compare(utf16.Encode([]rune(a)), utf16.Encode([]rune(b)))
}

// appendString escapes only what must be escaped (RFC 8785, 3.2.2.2).
func appendString(b []byte, s string) []byte {
	const hexDigits = "0123456789abcdef"
	b = append(b, '"')
	for _, r := range s {
		switch r {
		case '"', '\\':
			b = append(b, '\\', byte(r))
		case '\b':
			b = append(b, '\\', 'b')
		case '\f':
			b = append(b, '\\', 'f')
		case '\n':
			b = append(b, '\\', 'n')
		case '\r':
			b = append(b, '\\', 'r')
		case '\t':
			b = append(b, '\\', 't')
		default:
			if r < 0x20 {
				b = append(b, '\\', 'u', '0', '0', hexDigits[r>>4], hexDigits[r&15])
			} else {
				b = utf8.AppendRune(b, r)
			}
		}
	}
	return append(b, '"')
}

// TreeDigest names an unpacked tree by its manifest: "blake3:" and 64 hex digits
// (docs/tree-digest.md). "" is that of a tree which no machine has unpacked yet.
type TreeDigest string
