package plan

import (
	"slices"
	"strings"
)

// Named gives those variables whose names stand in a text, or all where a
// text asks for all of them.
func Named(env, texts []string) []string {
	var used []string
	for _, variable := range env {
		name, _, _ := strings.Cut(variable, "=")
		if slices.ContainsFunc(texts, func(text string) bool {
			return mentions(text, name) || mentions(text, "printenv") || strings.Contains(text, "lab.json")
		}) {
			used = append(used, variable)
		}
	}
	return used
}

// mentions tells whether a word stands in a text, and not as a part of a
// longer one.
func mentions(text, word string) bool {
	inWord := func(b byte) bool {
		return b == '_' || '0' <= b && b <= '9' || 'A' <= b && b <= 'Z' || 'a' <= b && b <= 'z'
	}
	for at := 0; ; {
		found := strings.Index(text[at:], word)
		if found < 0 {
			return false
		}
		begin := at + found
		end := begin + len(word)
		if (begin == 0 || !inWord(text[begin-1])) && (end == len(text) || !inWord(text[end])) {
			return true
		}
		at = begin + 1
	}
}
