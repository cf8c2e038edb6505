package cli

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"
	"time"

	"github.com/mattn/go-runewidth"
	"golang.org/x/term"
)

// Colours of the terminal, by what they mean. Added is teal with +, removed is
// amber with −, so that nothing is told by colour alone.
const (
	plain   = ""
	strong  = "1"
	faint   = "2"
	added   = "36"
	removed = "33"
	alarm   = "35"
	calm    = "36"
	addMark = "36;7"
	remMark = "33;7"
)

// screen writes for a person.
type screen struct {
	out    io.Writer
	err    io.Writer
	in     *bufio.Reader
	colour bool
	asks   bool // somebody can be asked
}

func newScreen() *screen {
	tty := term.IsTerminal(int(os.Stdout.Fd()))
	return &screen{out: os.Stdout, err: os.Stderr, in: bufio.NewReader(os.Stdin), colour: tty && os.Getenv("NO_COLOR") == "", asks: term.IsTerminal(int(os.Stdin.Fd()))}
}

func (s *screen) paint(style, text string) string {
	if !s.colour || style == plain || text == "" {
		return text
	}
	return "\x1b[" + style + "m" + text + "\x1b[0m"
}

func (s *screen) printf(format string, args ...any) { fmt.Fprintf(s.out, format, args...) }

// cell is a piece of text in a table with its style.
type cell struct {
	text, style string
}

// table writes rows aligned, the head faint. Columns that hold nothing at all
// are left out.
func (s *screen) table(head []string, rows [][]cell) {
	width := make([]int, len(head))
	used := make([]bool, len(head))
	for _, r := range rows {
		for i, c := range r {
			width[i] = max(width[i], runewidth.StringWidth(c.text))
			used[i] = used[i] || c.text != ""
		}
	}
	for i, h := range head {
		width[i] = max(width[i], runewidth.StringWidth(h))
	}
	line := func(cells []cell) {
		var b strings.Builder
		last := -1
		for i := range cells {
			if used[i] {
				last = i
			}
		}
		for i, c := range cells {
			if !used[i] {
				continue
			}
			b.WriteString(s.paint(c.style, c.text))
			if i < last {
				b.WriteString(strings.Repeat(" ", width[i]-runewidth.StringWidth(c.text)+2))
			}
		}
		fmt.Fprintln(s.out, strings.TrimRight(b.String(), " "))
	}
	top := make([]cell, len(head))
	for i, h := range head {
		top[i] = cell{h, faint}
	}
	line(top)
	for _, r := range rows {
		line(r)
	}
}

// facts writes names and values, one a line.
func (s *screen) facts(pairs ...string) {
	wide := 0
	for i := 0; i < len(pairs); i += 2 {
		if pairs[i+1] != "" {
			wide = max(wide, runewidth.StringWidth(pairs[i]))
		}
	}
	for i := 0; i < len(pairs); i += 2 {
		if pairs[i+1] == "" {
			continue
		}
		value := strings.ReplaceAll(pairs[i+1], "\n", "\n"+strings.Repeat(" ", wide+2))
		s.printf("%s%s  %s\n", s.paint(faint, pairs[i]), strings.Repeat(" ", wide-runewidth.StringWidth(pairs[i])), value)
	}
}

var errNobody = errors.New("nobody can be asked here: standard input is no terminal")

// ask reads an answer.
func (s *screen) ask(question string) (string, error) {
	if !s.asks {
		return "", errNobody
	}
	fmt.Fprint(s.err, question)
	line, err := s.in.ReadString('\n')
	return strings.TrimSpace(line), err
}

// secret gets a secret from the environment, a file, or a prompt, in that order.
func (s *screen) secret(what, env, file string) (string, error) {
	if v := os.Getenv(env); v != "" {
		return v, nil
	}
	if file != "" {
		raw, err := os.ReadFile(file)
		return strings.TrimRight(string(raw), "\r\n"), err
	}
	if !s.asks {
		return "", fmt.Errorf("%s is wanted and nobody can be asked for it; set %s, or name a file that holds it", what, env)
	}
	fmt.Fprintf(s.err, "%s: ", what)
	raw, err := term.ReadPassword(int(os.Stdin.Fd()))
	fmt.Fprintln(s.err)
	return string(raw), err
}

// zone is the time zone people read here.
func zone() *time.Location { return time.Local }

func zoneName() string { return time.Now().In(zone()).Format("MST") }

func when(t time.Time) string { return t.In(zone()).Format("2006-01-02 15:04") }

func whenp(t *time.Time) string {
	if t == nil {
		return ""
	}
	return when(*t)
}

// ago says how long ago something was.
func ago(t *time.Time) string {
	if t == nil {
		return "never"
	}
	d := time.Since(*t)
	switch {
	case d < time.Minute:
		return "just now"
	case d < time.Hour:
		return fmt.Sprintf("%d min ago", int(d.Minutes()))
	case d < 48*time.Hour:
		return fmt.Sprintf("%d h ago", int(d.Hours()))
	}
	return fmt.Sprintf("%d days ago", int(d.Hours()/24))
}

func count(n int, one, many string) string {
	if n == 1 {
		return "1 " + one
	}
	return fmt.Sprintf("%d %s", n, many)
}

// stateStyle is how a state is painted; its word always stands there too.
func stateStyle(state string) string {
	switch state {
	case "steady", "equal", "done":
		return calm
	case "drifted", "unsaved", "residuals", "undone", "waiting":
		return removed
	case "refused login", "unreachable", "other hardware", "in factory state", "failing", "failed", "refused", "unknown":
		return alarm
	}
	return plain
}
