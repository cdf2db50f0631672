package draw

import "strings"

// Wrap breaks text into lines that are at most width wide by what measure says,
// at blanks where it can. Line feeds stay.
func Wrap(text string, width int, measure func(string) int) []string {
	var lines []string
	for _, paragraph := range strings.Split(text, "\n") {
		line := ""
		for _, word := range strings.Fields(paragraph) {
			if line != "" && measure(line)+1+measure(word) > width {
				lines = append(lines, line)
				line = ""
			}
			if line != "" {
				line += " "
			}
			line += word
		}
		lines = append(lines, line)
	}
	return lines
}
