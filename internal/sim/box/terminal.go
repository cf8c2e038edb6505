package box

import (
	"bufio"
	"io"
	"strings"
)

// Terminal is a device's end of a command line: it echoes what is typed, takes
// backspaces, and shows long answers a page at a time.
type Terminal struct {
	In   *bufio.Reader
	Out  *bufio.Writer
	TTY  bool
	More string // what stands at the end of a page
	Rows int    // of a page; 0: no pages

	Acts map[byte]func() // keys that do something instead of standing in the line
	Next byte            // the key after which the next one stands for itself; 0: there is none
}

// NewTerminal makes a terminal of a connection.
func NewTerminal(rw io.ReadWriter, tty bool) *Terminal {
	return &Terminal{In: bufio.NewReader(rw), Out: bufio.NewWriter(rw), TTY: tty}
}

// Print shows lines.
func (t *Terminal) Print(lines ...string) {
	end := "\n"
	if t.TTY {
		end = "\r\n"
	}
	for _, l := range lines {
		_, _ = t.Out.WriteString(strings.ReplaceAll(l, "\n", end) + end)
	}
}

// Ask shows a question and reads the answer.
func (t *Terminal) Ask(question string, echo bool) (string, error) {
	_, _ = t.Out.WriteString(question)
	return t.ReadLine(echo)
}

// ReadLine reads up to Enter.
func (t *Terminal) ReadLine(echo bool) (string, error) {
	var line []byte
	echo = echo && t.TTY
	for {
		if t.In.Buffered() == 0 {
			_ = t.Out.Flush()
		}
		b, err := t.In.ReadByte()
		if err != nil {
			return "", err
		}
		if act := t.Acts[b]; act != nil && t.TTY {
			act()
			_, _ = t.Out.Write(line) // what was typed so far is shown again
			continue
		}
		if t.Next != 0 && b == t.Next && t.TTY {
			if b, err = t.In.ReadByte(); err != nil {
				return "", err
			}
			if line = append(line, b); echo {
				_ = t.Out.WriteByte(b)
			}
			continue
		}
		switch b {
		case '\r', '\n':
			if b == '\r' && t.In.Buffered() > 0 {
				if next, _ := t.In.Peek(1); next[0] == '\n' || next[0] == 0 {
					_, _ = t.In.ReadByte()
				}
			}
			if t.TTY {
				_, _ = t.Out.WriteString("\r\n")
			}
			return string(line), nil
		case 0:
		case 8, 127:
			if len(line) > 0 {
				line = line[:len(line)-1]
				if echo {
					_, _ = t.Out.WriteString("\b \b")
				}
			}
		case 4:
			if len(line) == 0 {
				return "", io.EOF
			}
		default:
			line = append(line, b)
			if echo {
				_ = t.Out.WriteByte(b)
			}
		}
	}
}

// Page shows lines a page at a time; any key goes on.
func (t *Terminal) Page(lines []string) error {
	for i, l := range lines {
		if t.TTY && t.Rows > 0 && i > 0 && i%t.Rows == 0 {
			_, _ = t.Out.WriteString(t.More)
			_ = t.Out.Flush()
			if _, err := t.In.ReadByte(); err != nil {
				return err
			}
			_, _ = t.Out.WriteString("\r" + strings.Repeat(" ", len(t.More)) + "\r")
		}
		t.Print(l)
	}
	return nil
}
