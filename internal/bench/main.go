// Command bench measures what the design promises of speed, each figure beside
// a rival in the same run, as a ratio. It is run by: make bench (or make bench
// ONLY=pulls for one part).
package main

import (
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"runtime/debug"
	"slices"
	"strings"
	"sync"
	"time"
	"unsafe"

	"magpie/internal/core/diff"
)

func main() {
	if len(os.Args) == 4 && os.Args[1] == "diff" {
		if err := unified(os.Args[2], os.Args[3], os.Stdout); err != nil {
			fmt.Fprintln(os.Stderr, err)
			os.Exit(2)
		}
		return
	}
	if len(os.Args) == 4 && os.Args[1] == "pull" {
		if err := pullAll(os.Args[2], os.Args[3]); err != nil {
			fmt.Fprintln(os.Stderr, err)
			os.Exit(2)
		}
		return
	}
	if err := all(); err != nil {
		fmt.Fprintln(os.Stderr, "bench:", err)
		os.Exit(1)
	}
}

// unified is our side of the race: read two files, compare, write. A process
// that lives this short needs no garbage collector.
func unified(a, b string, out io.Writer) error {
	debug.SetGCPercent(-1)
	var sides [2]diff.Text
	var errs [2]error
	var wg sync.WaitGroup
	for i, name := range []string{a, b} {
		wg.Go(func() {
			raw, err := os.ReadFile(name)
			sides[i], errs[i] = diff.Split(unsafe.String(unsafe.SliceData(raw), len(raw))), err
		})
	}
	wg.Wait()
	if err := errors.Join(errs[:]...); err != nil {
		return err
	}
	x, y := sides[0], sides[1]
	return diff.Unified(out, a, b, x, y, diff.Texts(x, y), 3, nil)
}

func all() error {
	dir, err := os.MkdirTemp("", "magpie-bench-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	for _, part := range []struct {
		name    string
		measure func(dir string) error
	}{{"diff", differences}, {"pulls", pulls}, {"console", consoleFigures}, {"lines", sendingLines}, {"learn", learning}, {"history", histories}} {
		if len(os.Args) > 1 && os.Args[1] != part.name {
			continue
		}
		if err := part.measure(dir); err != nil {
			return err
		}
	}
	return nil
}

// differences races our comparison against what an engineer would type.
func differences(dir string) error {
	self, err := os.Executable()
	if err != nil {
		return err
	}
	fmt.Println("Differences of two configurations of 200,000 lines; wall time of a whole process, best of 7;")
	fmt.Println("edits are lines removed plus lines added.")
	fmt.Printf("%-18s %-28s %9s %9s %9s\n", "texts", "program", "time", "edits", "times ours")
	for _, c := range []struct {
		name string
		a, b []string
	}{pair("1% changed", 0.01), pair("30% changed", 0.3), different()} {
		fa, fb := filepath.Join(dir, "a"), filepath.Join(dir, "b")
		for f, lines := range map[string][]string{fa: c.a, fb: c.b} {
			if err := os.WriteFile(f, []byte(strings.Join(lines, "\n")+"\n"), 0o600); err != nil {
				return err
			}
		}
		var ours time.Duration
		for _, r := range []struct {
			name string
			args []string
		}{
			{"ours", []string{self, "diff", fa, fb}},
			{"diff -u", []string{"diff", "-u", fa, fb}},
			{"git diff --histogram", []string{"git", "diff", "--no-index", "--histogram", fa, fb}},
		} {
			took, edits, err := race(r.args)
			if err != nil {
				return fmt.Errorf("%s: %w", r.name, err)
			}
			if ours == 0 {
				ours = took
			}
			fmt.Printf("%-18s %-28s %7.0fms %9d %9.2f\n", c.name, r.name, float64(took.Microseconds())/1000, edits, float64(took)/float64(ours))
		}
	}
	return nil
}

// race runs a command seven times and returns its best time and the length of
// the script it wrote.
func race(args []string) (time.Duration, int, error) {
	var all []time.Duration
	edits := 0
	for range 7 {
		cmd := exec.Command(args[0], args[1:]...)
		// A machine's own git settings may put something else in place of large files.
		cmd.Env = append(os.Environ(), "GIT_ATTR_NOSYSTEM=1", "GIT_CONFIG_NOSYSTEM=1", "GIT_CONFIG_GLOBAL=/dev/null")
		began := time.Now()
		out, err := cmd.Output()
		took := time.Since(began)
		if err != nil && cmd.ProcessState.ExitCode() != 1 {
			return 0, 0, err
		}
		all, edits = append(all, took), 0
		for _, l := range strings.Split(string(out), "\n") {
			if len(l) > 0 && (l[0] == '+' || l[0] == '-') && !strings.HasPrefix(l, "+++ ") && !strings.HasPrefix(l, "--- ") {
				edits++
			}
		}
	}
	return slices.Min(all), edits, nil
}

type texts = struct {
	name string
	a, b []string
}

// config makes lines like those of a large configuration: blocks with names of
// their own and settings that repeat.
func config(r *rand.Rand, n int) []string {
	var out []string
	for i := 0; len(out) < n; i++ {
		out = append(out, fmt.Sprintf("lane slip%d", i), fmt.Sprintf("  note \"berth %d\"", r.IntN(n)), fmt.Sprintf("  berth 10.%d.%d.1/24", i>>8&255, i&255),
			"  guard strict", fmt.Sprintf("  mtu %d", 1400+r.IntN(3)*100), "  sieve in guest-in", "  sieve out guest-out", "  shut")
	}
	return out[:n]
}

func pair(name string, share float64) texts {
	r := rand.New(rand.NewPCG(1, 2))
	a := config(r, 200_000)
	var b []string
	for _, l := range a {
		switch p := r.Float64() / share; {
		case p < 0.3: // gone
		case p < 0.6:
			b = append(b, l, fmt.Sprintf("  also-berth 10.200.%d.%d/24", r.IntN(256), r.IntN(256)))
		case p < 1:
			b = append(b, fmt.Sprintf("  note \"changed %d\"", r.IntN(1<<30)))
		default:
			b = append(b, l)
		}
	}
	return texts{name, a, b}
}

func different() texts {
	r := rand.New(rand.NewPCG(3, 4))
	a, b := config(r, 200_000), config(r, 200_000)
	for i := range a {
		a[i], b[i] = fmt.Sprintf("%s a%d", a[i], i), fmt.Sprintf("%s b%d", b[i], i)
	}
	return texts{"wholly different", a, b}
}
