// Package text cuts configuration text into lines and brings terminal output
// into plain form.
package text

import "strings"

// Lines cuts s at newlines. The newline is not part of a line; a last line
// without one counts. Empty text has no lines.
func Lines(s string) []string {
	if s == "" {
		return nil
	}
	return strings.Split(strings.TrimSuffix(s, "\n"), "\n")
}

// Join is the inverse of Lines for text that ends in a newline.
func Join(lines []string) string {
	if len(lines) == 0 {
		return ""
	}
	return strings.Join(lines, "\n") + "\n"
}
