package link

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"strings"
	"testing"
	"time"

	"magpie/internal/dialect"
)

// manners is a dialect whose devices differ in how they talk, not in what they say.
const manners = `
dialect: manners
title: manners of command lines
kind: router
reach: {transport: ssh, port: 22, timeouts: {connect: 4s, answer: 6s, idle: 6s}}
converse:
  host: '[A-Za-z][A-Za-z0-9-]*'
  initial_mode: top
  modes:
    top: {prompt: '{host}> '}
    edit: {prompt: '{host}\(edit\)# ', from: top, enter: edit, leave: done}
  pager: {shows: '^--more--$', answer: ' '}
  wake: {WAKE}
identity: {mode: top, command: who, serial: '^serial (\S+)$'}
parts: {running: {mode: top, command: show, complete: {last: '^end$'}}}
grammar: {form: blocks}
change: {mode: edit, remove: 'no {line}', leave: exit, silent: true, methods: [replace]}
`

// fake is a device at the other end of a stream: what it says first, and what it answers.
type fake struct {
	first  string
	answer func(line string) string // with echo and prompt; keys that are no line end come as they are
}

// talk opens a terminal with a fake device.
func talk(t *testing.T, wake string, f fake) (*terminal, error) {
	t.Helper()
	d, err := dialect.Load("manners.yaml", []byte(strings.Replace(manners, "WAKE", wake, 1)))
	if err != nil {
		t.Fatal(err)
	}
	toUs, device := io.Pipe()
	typed, ours := io.Pipe()
	t.Cleanup(func() { device.Close(); ours.Close(); typed.Close() })
	go func() {
		_, _ = io.WriteString(device, f.first)
		r := bufio.NewReader(typed)
		line := ""
		for {
			b, err := r.ReadByte()
			if err != nil {
				return
			}
			if b != '\r' && b != ' ' || b == ' ' && line != "" {
				line += string(b)
				continue
			}
			if b == ' ' {
				line = " "
			}
			if _, err := io.WriteString(device, f.answer(line)); err != nil {
				return
			}
			line = ""
		}
	}()
	ctx, cancel := context.WithTimeout(t.Context(), 30*time.Second)
	t.Cleanup(cancel)
	return newTerminal(ctx, Call{Guard: func() error { return nil }}, d, &stream{toUs, ours, func() { toUs.Close() }}, true)
}

// echoed answers a line as most devices do.
func echoed(prompt string, answers map[string]string) func(string) string {
	return func(line string) string {
		return line + "\r\n" + answers[line] + prompt
	}
}

// TestManners: whatever way a command line has of showing its prompt, its echo and its pages, what it
// answers is read to the letter, and an accepted line is not taken for a refused one.
func TestManners(t *testing.T) {
	t.Parallel()
	const shown = "lane q1\n  note \"ticket hall\"\nend\n"
	long := "note \"" + strings.Repeat("all along the quay ", 9) + "\""
	crlf := strings.ReplaceAll(shown, "\n", "\r\n")
	plain := echoed("quay-r1> ", map[string]string{"show": crlf})
	pages := func(end, wiped string) func(string) string {
		return func(line string) string {
			if line == "show" {
				return "show\r\nlane q1\r\n" + end
			}
			if line == " " {
				return wiped + "  note \"ticket hall\"\r\nend\r\nquay-r1> "
			}
			return line + "\r\nquay-r1> "
		}
	}
	asleep := true
	drawn := func(redraw string) func(string) string {
		return func(line string) string { return line + "\r\n" + map[bool]string{true: crlf}[line == "show"] + redraw }
	}
	for _, c := range []struct {
		name, wake string
		f          fake
	}{
		{"plain", "", fake{"quay-r1> ", plain}},
		{"a banner that looks like a prompt", "", fake{"hello> \r\nquay-r1> ", plain}},
		{"colours", "", fake{"\x1b[1mquay-r1\x1b[0m> ", drawn("\x1b[1mquay-r1\x1b[0m> ")}},
		{"a title with each prompt", "", fake{"\x1b]0;quay-r1\x07quay-r1> ", drawn("\x1b]0;quay-r1\x07quay-r1> ")}},
		{"a character set with each prompt", "", fake{"\x1b(Bquay-r1> ", drawn("\x1b(B\x0fquay-r1> ")}},
		{"bracketed paste", "", fake{"\x1b[?2004hquay-r1> ", drawn("\x1b[?2004l\x1b[?2004hquay-r1> ")}},
		{"a prompt drawn twice", "", fake{"quay-r1> ", drawn("quay-r1> \x1b[2K\rquay-r1> ")}},
		{"any key first", `shows: 'any key', answer: "x\r"`, fake{"Welcome.\r\nPress any key to go on", func(line string) string {
			if line == "x" {
				return "\r\nquay-r1> "
			}
			return plain(line)
		}}},
		{"a line that ends, and any key first", `shows: 'any key', answer: "\r"`, fake{"Welcome.\r\nPress any key.\r\n", plain}},
		{"silent until it is woken", `answer: "\r"`, fake{"", func(line string) string {
			if asleep {
				asleep = false
				return "\r\nquay-r1> "
			}
			return plain(line)
		}}},
		{"pages wiped with blanks", "", fake{"quay-r1> ", pages("--more--", "\r        \r")}},
		{"pages erased", "", fake{"quay-r1> ", pages("--more--", "\r\x1b[K")}},
		{"pages erased whole", "", fake{"quay-r1> ", pages("--more--", "\x1b[2K\r")}},
		{"pages taken back", "", fake{"quay-r1> ", pages("--more--", strings.Repeat("\b \b", 8))}},
		{"pages in inverse", "", fake{"quay-r1> ", pages("\x1b[7m--more--\x1b[0m", "\r\x1b[J")}},
		{"pages that end in a newline", "", fake{"quay-r1> ", pages("--more--\r\n", "\x1b[1A\x1b[2K")}},
		{"something written behind the prompt", "", fake{"quay-r1> ", func(line string) string {
			if line == "show" {
				return "show\r\n" + crlf + "quay-r1> \r\n%10:00 lane q2 is down\r\n"
			}
			return plain(line)
		}}},
		{"something written on the prompt's line", "", fake{"quay-r1> ", func(line string) string {
			if line == "show" {
				return "show\r\n" + crlf + "quay-r1> %10:00 lane q2 is down\r\n"
			}
			return plain(line)
		}}},
	} {
		t.Run(c.name, func(t *testing.T) {
			wake := c.wake
			if wake == "" {
				wake = `shows: never, answer: "\r"`
			}
			s, err := talk(t, wake, c.f)
			if err != nil {
				t.Fatal(err)
			}
			for range 2 { // what was behind a prompt is not in front of the next answer
				out, err := s.Command("show")
				if err != nil || out != shown {
					t.Fatalf("%v\n%q\nwant\n%q", err, out, shown)
				}
			}
		})
	}
	// A line that was accepted answers nothing, however its echo came.
	for name, echo := range map[string]string{
		"as it is":                    long,
		"broken at the edge":          long[:80] + "\r\n" + long[80:160] + "\r\n" + long[160:],
		"with a blank at the edge":    long[:80] + " \r\n" + long[80:],
		"scrolled":                    long[:60] + "\r$" + long[110:] + "\x1b[K",
		"scrolled with another mark":  long[:60] + "\r<" + long[140:] + "\x1b[K",
		"wrapped with blank and back": long[:80] + " \r\x1b[K" + "<" + long[120:],
	} {
		t.Run("echo "+name, func(t *testing.T) {
			s, err := talk(t, `shows: never, answer: "\r"`, fake{"quay-router-1> ", func(line string) string {
				switch line {
				case long:
					return echo + "\r\nquay-route(edit)# " // which cuts its name short there
				case "bad":
					return "bad\r\nwhat is bad\r\nquay-route(edit)# "
				case "edit":
					return "edit\r\nquay-route(edit)# "
				}
				return line + "\r\nquay-router-1> "
			}})
			if err != nil {
				t.Fatal(err)
			}
			if err := s.Enter("edit"); err != nil {
				t.Fatal(err)
			}
			if err := s.send([]string{long}, ""); err != nil {
				t.Errorf("an accepted line: %v", err)
			}
			if err := s.send([]string{"bad"}, ""); err == nil || !strings.Contains(fmt.Sprint(err), "what is bad") {
				t.Errorf("a refused line: %v", err)
			}
		})
	}
}
