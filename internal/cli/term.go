package cli

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"magpie/internal/core/ref"
	"os"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"

	"github.com/mattn/go-runewidth"
	"golang.org/x/sys/unix"
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

// screen writes for a person. What goes out through it cannot steer the
// terminal: see guarded.
type screen struct {
	out    io.Writer
	err    io.Writer
	in     *os.File
	raw    io.Writer // where texts go byte for byte; nil: they go through out
	colour bool
	asks   bool // somebody can be asked
	width  int  // columns of the terminal; 0: lines are as long as they are
	mark   string
	whole  whole
}

func newScreen() *screen {
	s := &screen{in: os.Stdin, asks: term.IsTerminal(int(os.Stdin.Fd()))}
	tty := term.IsTerminal(int(os.Stdout.Fd()))
	if tty {
		s.colour = os.Getenv("NO_COLOR") == ""
		s.width, _, _ = term.GetSize(int(os.Stdout.Fd()))
	} else {
		s.raw = &s.whole
	}
	s.whole.to = os.Stdout
	s.guard(&s.whole, os.Stderr)
	return s
}

// whole passes text on and keeps the first error of that: what was not written was not said.
type whole struct {
	to  io.Writer
	err error
}

func (w *whole) Write(p []byte) (int, error) {
	n, err := w.to.Write(p)
	if w.err == nil {
		w.err = err
	}
	return n, err
}

// guard puts the guard between the screen and where it writes.
func (s *screen) guard(out, err io.Writer) {
	b := make([]byte, 6)
	_, _ = rand.Read(b)
	s.mark = "\uFDD0" + hex.EncodeToString(b) // a noncharacter and what nobody else can know
	s.out, s.err = guarded{out, s.mark}, guarded{err, s.mark}
}

// guarded passes text on so that it cannot steer a terminal: what others wrote
// may hold sequences that clear it, hide lines or turn the direction of writing.
// Only the colours that paint put there are let through.
type guarded struct {
	to   io.Writer
	mark string
}

func (g guarded) Write(p []byte) (int, error) {
	_, err := io.WriteString(g.to, strings.ReplaceAll(visible(string(p)), g.mark, "\x1b["))
	return len(p), err
}

// visible writes the characters of a text that steer a terminal out.
func visible(s string) string {
	if !strings.ContainsFunc(s, steers) && utf8.ValidString(s) {
		return s
	}
	var b strings.Builder
	for len(s) > 0 {
		r, n := utf8.DecodeRuneInString(s)
		switch {
		case r == utf8.RuneError && n == 1:
			fmt.Fprintf(&b, "\\x%02x", s[0])
		case !steers(r):
			b.WriteRune(r)
		case r < ' ':
			fmt.Fprintf(&b, "\\x%02x", r)
		default:
			fmt.Fprintf(&b, "\\u%04x", r)
		}
		s = s[n:]
	}
	return b.String()
}

func steers(r rune) bool {
	if ' ' <= r && r < 0x7f {
		return false
	}
	return r != '\n' && r != '\t' && (unicode.IsControl(r) || unicode.Is(unicode.Bidi_Control, r) || r == '\u2028' || r == '\u2029')
}

func (s *screen) paint(style, text string) string {
	if !s.colour || style == plain || text == "" {
		return text
	}
	return s.mark + style + "m" + text + s.mark + "0m"
}

func (s *screen) printf(format string, args ...any) { fmt.Fprintf(s.out, format, args...) }

// text writes a configuration's text: byte for byte, but on a terminal.
func (s *screen) text(t string) {
	if s.raw != nil {
		_, _ = io.WriteString(s.raw, t)
		return
	}
	_, _ = io.WriteString(s.out, t)
}

// cell is a piece of text in a table with its style.
type cell struct {
	text, style string
}

// table writes rows aligned, the head faint. Columns that hold nothing at all
// are left out. On a terminal that is too narrow the widest columns are folded
// between words; elsewhere a row is a line, however long.
func (s *screen) table(head []string, rows [][]cell) {
	width, word := make([]int, len(head)), make([]int, len(head)) // of the widest text, and word
	used := make([]bool, len(head))
	wide := func(i int, text string) {
		width[i] = max(width[i], runewidth.StringWidth(text))
		for _, w := range strings.Fields(text) {
			word[i] = max(word[i], runewidth.StringWidth(w))
		}
	}
	for _, r := range rows {
		for i := range r {
			r[i].text = strings.Join(strings.Fields(visible(r[i].text)), " ")
			wide(i, r[i].text)
			used[i] = used[i] || r[i].text != ""
		}
	}
	last := 0
	for i, h := range head {
		wide(i, h)
		if used[i] {
			last = i
		}
	}
	if s.width > 0 {
		narrow(width, word, used, s.width)
	}
	line := func(cells []cell) {
		folded := make([][]string, len(cells))
		high := 1
		for i, c := range cells {
			if used[i] {
				folded[i] = fold(c.text, width[i])
				high = max(high, len(folded[i]))
			}
		}
		for row := range high {
			var b strings.Builder
			for i, c := range cells {
				if !used[i] {
					continue
				}
				piece := ""
				if row < len(folded[i]) {
					piece = folded[i][row]
				}
				b.WriteString(s.paint(c.style, piece))
				if i < last {
					b.WriteString(strings.Repeat(" ", max(0, width[i]-runewidth.StringWidth(piece))+2))
				}
			}
			fmt.Fprintln(s.out, strings.TrimRight(b.String(), " "))
		}
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

// mostWord is how wide a word may be that is kept whole in a narrow column: an
// id, a name, an address.
const mostWord = 24

// narrow takes from the widest columns until they fit, or until none can be
// narrower without breaking words.
func narrow(width, word []int, used []bool, most int) {
	least := make([]int, len(width))
	for i := range least {
		least[i] = min(width[i], min(word[i], mostWord))
	}
	for {
		total, widest := -2, -1
		for i, w := range width {
			if !used[i] {
				continue
			}
			total += w + 2
			if w > least[i] && (widest < 0 || w > width[widest]) {
				widest = i
			}
		}
		if total <= most || widest < 0 {
			return
		}
		second := 0
		for i, w := range width {
			if used[i] && i != widest && w > least[i] {
				second = max(second, w)
			}
		}
		// Down to the next widest, or as far as is needed.
		width[widest] = max(least[widest], width[widest]-(total-most), min(second, width[widest])-1)
	}
}

// fold breaks a text between words. A word that is too long stays whole, unless
// it is wider than a line can be.
func fold(text string, width int) (lines []string) {
	if width <= 0 || runewidth.StringWidth(text) <= width {
		return []string{text}
	}
	line := ""
	for _, w := range strings.Fields(text) {
		for runewidth.StringWidth(w) > width {
			if line != "" {
				lines, line = append(lines, line), ""
			}
			head := runewidth.Truncate(w, width, "")
			lines, w = append(lines, head), w[len(head):]
		}
		switch {
		case line == "":
			line = w
		case runewidth.StringWidth(line)+1+runewidth.StringWidth(w) <= width:
			line += " " + w
		default:
			lines, line = append(lines, line), w
		}
	}
	if line != "" {
		lines = append(lines, line)
	}
	return lines
}

// facts writes names and values, one a line; in a terminal long ones are broken
// between words.
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
		var lines []string
		for _, l := range strings.Split(pairs[i+1], "\n") {
			if strings.Contains(l, s.mark) { // colours have no width
				lines = append(lines, l)
			} else {
				lines = append(lines, fold(l, s.width-wide-2)...)
			}
		}
		value := strings.Join(lines, "\n"+strings.Repeat(" ", wide+2))
		s.printf("%s%s  %s\n", s.paint(faint, pairs[i]), strings.Repeat(" ", wide-runewidth.StringWidth(pairs[i])), value)
	}
}

var errNobody = errors.New("nobody can be asked here: standard input is no terminal")

// errLeft is returned when a question is left with Ctrl-C.
var errLeft = errors.New("left without an answer")

// errOver is returned when a question does not wait any longer.
var errOver = errors.New("the time for an answer is over")

// ask reads an answer. Ctrl-C leaves the question.
func (s *screen) ask(ctx context.Context, question string) (string, error) {
	return s.askUntil(ctx, question, never)
}

// yes asks a question that is answered with yes or no.
func (s *screen) yes(ctx context.Context, question string) (bool, error) {
	said, err := s.ask(ctx, question+" (yes/no) ")
	said = strings.ToLower(said)
	return said == "yes" || said == "y", err
}

// never is a question that waits for as long as it takes.
func never() bool { return false }

// askUntil reads an answer, as long as the question is not over. Nothing is read
// that was not typed as an answer: what comes later is the shell's.
func (s *screen) askUntil(ctx context.Context, question string, over func() bool) (string, error) {
	if !s.asks {
		return "", errNobody
	}
	fmt.Fprint(s.err, question)
	line, err := s.typed(ctx, over)
	if errors.Is(err, errLeft) || errors.Is(err, errOver) {
		fmt.Fprintln(s.err)
	}
	return strings.TrimSpace(line), err
}

// typed waits for a line at the terminal, as long as that is not left or over. A
// terminal has something to read once Enter was pressed.
func (s *screen) typed(ctx context.Context, over func() bool) (string, error) {
	for {
		switch {
		case ctx.Err() != nil:
			return "", errLeft
		case over():
			return "", errOver
		}
		fds := []unix.PollFd{{Fd: int32(s.in.Fd()), Events: unix.POLLIN}}
		n, err := unix.Poll(fds, 100)
		if err != nil && err != unix.EINTR {
			return "", err
		}
		if n <= 0 {
			continue
		}
		line := make([]byte, 4096)
		n, err = s.in.Read(line)
		return string(line[:max(n, 0)]), err
	}
}

// secret gets a secret from the environment, a file, or a prompt, in that order.
func (s *screen) secret(ctx context.Context, what, env, file string) (string, error) {
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
	// Without echo, until it is typed or left.
	fd := int(s.in.Fd())
	was, err := unix.IoctlGetTermios(fd, unix.TCGETS)
	if err != nil {
		return "", err
	}
	quiet := *was
	quiet.Lflag &^= unix.ECHO
	quiet.Lflag |= unix.ICANON | unix.ISIG
	if err := unix.IoctlSetTermios(fd, unix.TCSETS, &quiet); err != nil {
		return "", err
	}
	defer func() { _ = unix.IoctlSetTermios(fd, unix.TCSETS, was); fmt.Fprintln(s.err) }()
	fmt.Fprintf(s.err, "%s: ", what)
	line, err := s.typed(ctx, never)
	return strings.TrimRight(line, "\r\n"), err
}

// secretIf is a secret that need not be: of the environment or a file, if one is named.
func (s *screen) secretIf(ctx context.Context, what, env, file string) (string, error) {
	if file == "" && os.Getenv(env) == "" {
		return "", nil
	}
	return s.secret(ctx, what, env, file)
}

// zone is the time zone people read here.
func zone() *time.Location { return time.Local }

// chosen is the zone that somebody reads in because they said so; empty: the system's.
var chosen string

// here is where and when somebody types.
func here() ref.Here { return ref.In(zone(), time.Now) }

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

// several is a selector as a list has it: its first words, and how many more there are.
func several(words []string) string {
	out := ""
	for i, w := range words {
		if i > 0 && len(out)+1+len(w) > 60 {
			return fmt.Sprintf("%s and %d more", out, len(words)-i)
		}
		out = strings.TrimPrefix(out+" "+w, " ")
	}
	return out
}

// count is how many there are of something.
func count(n int, one, many string) string {
	if n == 1 {
		return "1 " + one
	}
	return fmt.Sprintf("%d %s", n, many)
}

// stateStyle is how a state is painted; its word always stands there too.
func stateStyle(state string) string {
	switch state {
	case "in sync", "verified", "done":
		return calm
	case "drifted", "unsaved", "differs", "undone", "waiting":
		return removed
	case "login refused", "unreachable", "hardware changed", "factory defaults", "pull failing", "failed", "refused", "unknown":
		return alarm
	}
	return plain
}
