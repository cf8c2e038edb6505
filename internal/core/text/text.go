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

// Terminal undoes what a terminal adds to text: carriage returns (a return
// in mid-line starts the line over), backspaces, and control sequences of
// ECMA-48 §5.4. Newlines stay.
func Terminal(s string) string {
	if !strings.ContainsAny(s, "\r\b\x1b\x07\x00") {
		return s
	}
	var out strings.Builder
	out.Grow(len(s))
	var line []byte
	at := 0 // where the next byte goes in line
	wiped := false
	end := func() {
		// What a pager wiped out with blanks is not text.
		if wiped {
			line = line[:max(at, len(strings.TrimRight(string(line), " ")))]
		}
		out.Write(line)
		line, at, wiped = line[:0], 0, false
	}
	for i := 0; i < len(s); i++ {
		switch b := s[i]; b {
		case '\n':
			end()
			out.WriteByte('\n')
		case '\r':
			// Overwriting starts only when something other than a newline follows.
			j := i + 1
			for j < len(s) && s[j] == '\r' {
				j++
			}
			if j == len(s) || s[j] != '\n' {
				at, wiped = 0, true
			}
			i = j - 1
		case '\b':
			at, wiped = max(at-1, 0), true
		case 0, 7:
		case 0x1b:
			i = sequence(s, i, &line, at)
		default:
			if at < len(line) {
				line[at] = b
			} else {
				line = append(line, b)
			}
			at++
		}
	}
	end()
	return out.String()
}

// sequence passes over a control sequence that starts at i and returns where
// it ends. "Erase in line" is the one that changes what is seen.
func sequence(s string, i int, line *[]byte, at int) int {
	if i+1 >= len(s) || s[i+1] != '[' {
		return min(i+1, len(s)-1)
	}
	j := i + 2
	for j < len(s) && (s[j] < 0x40 || s[j] > 0x7e) {
		j++
	}
	if j < len(s) && s[j] == 'K' {
		*line = (*line)[:min(at, len(*line))]
	}
	return min(j, len(s)-1)
}
