package text

import (
	"strconv"
	"strings"
	"unicode/utf8"
)

// Terminal returns what a terminal shows of s, line by line: cursor moves, erasures, insertions and
// deletions of ECMA-48 §8.3 are carried out, and titles, colours, character sets and other strings and
// functions leave nothing behind. The screen is as wide and as long as it needs to be; what is more
// than reach lines above the lowest is out of the cursor's reach. Bytes that are no UTF-8 stay as they are.
func Terminal(s string) string {
	if !strings.ContainsAny(s, "\r\b\x1b\x07\x00\x0e\x0f") {
		return s
	}
	sc := screen{room: len(s) + 4096}
	sc.out.Grow(len(s))
	sc.write(s)
	return sc.close()
}

// reach is how many lines the cursor can go up.
const reach = 200

// cell is what stands in one place: a rune, or, below 0, a byte that is no text.
type cell int32

// row is a line of the screen. One that was never written over is kept as it came.
type row struct {
	plain string // what it shows, while cells is nil
	cells []cell
	wiped bool // something in it was written over or erased
	ended bool // a newline stands behind it
}

func (r *row) edit() {
	if r.cells != nil {
		return
	}
	r.cells = make([]cell, 0, len(r.plain)+16)
	for i := 0; i < len(r.plain); {
		c, n := next(r.plain[i:])
		r.cells = append(r.cells, c)
		i += n
	}
	r.plain = ""
}

func next(s string) (cell, int) {
	r, n := utf8.DecodeRuneInString(s)
	if r == utf8.RuneError && n <= 1 {
		return -cell(s[0]), 1
	}
	return cell(r), n
}

func (r *row) text() string {
	if r.cells == nil {
		return r.plain
	}
	var b strings.Builder
	for _, c := range r.cells {
		if c < 0 {
			b.WriteByte(byte(-c))
		} else {
			b.WriteRune(rune(c))
		}
	}
	return b.String()
}

type screen struct {
	out         strings.Builder // rows that the cursor cannot reach any more
	rows        []row
	at, col     int // the cursor
	saved       [2]int
	shift       bool // another character set is shifted in: line drawing
	designated  byte // the set that ESC ( chose
	designated1 byte // and ESC )
	room        int  // how many blanks may still be made of moves: no more than is written
}

// here is the cursor's row, made if it is not there yet.
func (sc *screen) here() *row {
	for sc.at >= len(sc.rows) {
		sc.rows = append(sc.rows, row{})
	}
	return &sc.rows[sc.at]
}

func (sc *screen) newline() {
	r := sc.here()
	if r.wiped { // what a pager wiped out with blanks is not text
		r.edit()
		n := len(r.cells)
		for n > sc.col && r.cells[n-1] == ' ' {
			n--
		}
		r.cells = r.cells[:n]
		r.wiped = false
	}
	r.ended = true
	sc.at, sc.col = sc.at+1, 0
	if n := len(sc.rows) - 2*reach; n > 0 { // by many at once, so that it costs little
		sc.flush(len(sc.rows) - reach)
	}
}

func (sc *screen) flush(n int) {
	for i := range sc.rows[:n] {
		r := &sc.rows[i]
		if sc.out.WriteString(r.text()); r.ended {
			sc.out.WriteByte('\n')
		}
	}
	sc.rows = append(sc.rows[:0], sc.rows[n:]...)
	sc.at = max(sc.at-n, 0)
	sc.saved[0] = max(sc.saved[0]-n, 0)
}

// close returns what is shown. Rows that were erased whole below the last that says something, or that the
// cursor stands in, are not.
func (sc *screen) close() string {
	sc.flush(min(sc.at, len(sc.rows)))
	for len(sc.rows) > 1 && !sc.rows[len(sc.rows)-1].ended && sc.rows[len(sc.rows)-1].text() == "" {
		sc.rows = sc.rows[:len(sc.rows)-1]
	}
	if len(sc.rows) > 0 { // the cursor's row, and what is below it
		r := &sc.rows[0]
		if r.wiped {
			r.edit()
			n := len(r.cells)
			for n > sc.col && r.cells[n-1] == ' ' {
				n--
			}
			r.cells = r.cells[:n]
		}
	}
	for i := range sc.rows {
		if sc.out.WriteString(sc.rows[i].text()); sc.rows[i].ended && (i > 0 || len(sc.rows) > 1) {
			sc.out.WriteByte('\n')
		}
	}
	return sc.out.String()
}

// put writes a cell where the cursor stands.
func (sc *screen) put(c cell) {
	r := sc.here()
	r.edit()
	for ; len(r.cells) < sc.col && sc.room > 0; sc.room-- {
		r.cells = append(r.cells, ' ')
	}
	sc.col = min(sc.col, len(r.cells))
	if sc.col < len(r.cells) {
		r.cells[sc.col] = c
	} else {
		r.cells = append(r.cells, c)
	}
	sc.col++
}

func (sc *screen) write(s string) {
	for i := 0; i < len(s); {
		n := strings.IndexAny(s[i:], "\n\r\b\x1b\x07\x00\x0e\x0f")
		if n < 0 {
			n = len(s) - i
		}
		if n > 0 {
			r := sc.here()
			switch {
			case sc.shift || sc.drawing():
				for range n {
					sc.put(' ')
				}
			case r.cells == nil && r.plain == "" && sc.col == 0:
				r.plain, sc.col = s[i:i+n], utf8.RuneCountInString(s[i:i+n])
			default:
				for end := i + n; i < end; {
					c, size := next(s[i:end])
					sc.put(c)
					i += size
				}
				n = 0
			}
			i += n
			continue
		}
		switch s[i] {
		case '\n':
			sc.newline()
		case '\r':
			// Overwriting starts only when something other than a newline follows.
			j := i
			for j < len(s) && s[j] == '\r' {
				j++
			}
			if j == len(s) || s[j] != '\n' {
				sc.col = 0
				sc.here().wiped = true
			}
			i = j - 1
		case '\b':
			sc.col = max(sc.col-1, 0)
			sc.here().wiped = true
		case 0x0e:
			sc.shift = sc.designated1 == '0'
		case 0x0f:
			sc.shift = false
		case 0x1b:
			i = sc.sequence(s, i)
			continue
		}
		i++
	}
}

// drawing tells whether what is written now are lines and corners, and no text.
func (sc *screen) drawing() bool { return sc.designated == '0' }

// sequence carries out a function that begins at i, and returns where it ends. One that is cut off
// goes to the end.
func (sc *screen) sequence(s string, i int) int {
	if i+1 >= len(s) {
		return len(s)
	}
	switch c := s[i+1]; {
	case c == '[':
		j := i + 2
		for j < len(s) && (s[j] < 0x40 || s[j] > 0x7e) {
			if s[j] == 0x1b { // broken off by another
				return j
			}
			j++
		}
		if j < len(s) {
			sc.control(s[i+2:j], s[j])
		}
		return min(j+1, len(s))
	case c == ']' || c == 'P' || c == 'X' || c == '^' || c == '_': // a string, to BEL or ST
		for j := i + 2; j < len(s); j++ {
			switch {
			case s[j] == 7:
				return j + 1
			case s[j] == 0x1b && j+1 < len(s) && s[j+1] == '\\':
				return j + 2
			case s[j] == 0x1b && j+1 < len(s), s[j] == '\n': // it never ended
				return j
			}
		}
		return len(s)
	case c >= 0x20 && c <= 0x2f:
		j := i + 2
		for j < len(s) && s[j] >= 0x20 && s[j] <= 0x2f {
			j++
		}
		if j < len(s) {
			switch c {
			case '(':
				sc.designated = s[j]
			case ')':
				sc.designated1 = s[j]
			}
		}
		return min(j+1, len(s))
	case c == '7':
		sc.saved = [2]int{sc.at, sc.col}
	case c == '8':
		sc.at, sc.col = sc.saved[0], sc.saved[1]
		sc.here().wiped = true
	case c == 'M':
		sc.at = max(sc.at-1, 0)
		sc.here().wiped = true
	}
	return i + 2
}

// control carries out a control sequence: CSI parameters final.
func (sc *screen) control(parameters string, final byte) {
	if parameters != "" && (parameters[0] >= '<' && parameters[0] <= '?') {
		return // a maker's own
	}
	fields := strings.Split(parameters, ";")
	arg := func(n, otherwise int) int {
		if n < len(fields) {
			if v, err := strconv.Atoi(fields[n]); err == nil && v > 0 {
				return min(v, 1<<14)
			}
		}
		return otherwise
	}
	n := arg(0, 1)
	move := func() { sc.here().wiped = true }
	switch final {
	case 'A': // CUU
		sc.at = max(sc.at-n, 0)
		move()
	case 'F': // CPL
		sc.at, sc.col = max(sc.at-n, 0), 0
		move()
	case 'B': // CUD: never below what there is
		sc.at = min(sc.at+n, max(len(sc.rows)-1, 0))
	case 'C': // CUF
		sc.col += n
	case 'D': // CUB
		sc.col = max(sc.col-n, 0)
		move()
	case 'G', '`': // CHA, HPA
		sc.col = n - 1
		move()
	case 'K': // EL
		sc.erase(arg(0, 0))
	case 'J': // ED
		sc.erase(arg(0, 0))
		if arg(0, 0) == 0 || arg(0, 0) == 2 {
			for i := sc.at + 1; i < len(sc.rows); i++ {
				sc.rows[i] = row{}
			}
			sc.rows = sc.rows[:min(len(sc.rows), sc.at+1)]
			sc.here().ended = false
		}
	case 'P': // DCH
		r := sc.here()
		r.edit()
		if sc.col < len(r.cells) {
			r.cells = append(r.cells[:sc.col], r.cells[min(sc.col+n, len(r.cells)):]...)
		}
	case '@': // ICH
		r := sc.here()
		r.edit()
		if n = min(n, sc.room); sc.col < len(r.cells) {
			sc.room -= n
			blank := make([]cell, n)
			for i := range blank {
				blank[i] = ' '
			}
			r.cells = append(r.cells[:sc.col:sc.col], append(blank, r.cells[sc.col:]...)...)
		}
	case 'X': // ECH
		r := sc.here()
		r.edit()
		for i := sc.col; i < min(sc.col+n, len(r.cells)); i++ {
			r.cells[i] = ' '
		}
		r.wiped = true
	case 's':
		sc.saved = [2]int{sc.at, sc.col}
	case 'u':
		sc.at, sc.col = sc.saved[0], sc.saved[1]
		move()
	}
}

// erase erases in the cursor's line: what is behind it (0), before it (1) or all (2).
func (sc *screen) erase(what int) {
	r := sc.here()
	r.edit()
	switch what {
	case 0:
		r.cells = r.cells[:min(sc.col, len(r.cells))]
	case 1:
		for i := 0; i <= sc.col && i < len(r.cells); i++ {
			r.cells[i] = ' '
		}
		r.wiped = true
	case 2:
		r.cells = r.cells[:0]
	}
}
