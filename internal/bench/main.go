// Command bench measures what the design promises of speed, each figure beside
// a rival in the same run, as a ratio. It is run by: make bench (or make bench
// ONLY=pulls for one part).
package main

import (
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"time"
)

func main() {
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

func all() error {
	dir, err := os.MkdirTemp("", "magpie-bench-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	for _, part := range []struct {
		name    string
		measure func(dir string) error
	}{{"diff", differences}, {"idle", idle}, {"pulls", pulls}, {"console", consoleFigures}, {"lines", sendingLines}, {"learn", learning}, {"history", histories}, {"search", searches}} {
		if len(os.Args) > 1 && os.Args[1] != part.name {
			continue
		}
		if err := part.measure(dir); err != nil {
			return err
		}
	}
	return nil
}

// differences races the program, as users run it, against what an engineer would type.
func differences(dir string) error {
	fmt.Println("Differences of two configurations of 200,000 lines; wall time of a whole process, best of 7;")
	fmt.Println("edits are lines removed plus lines added.")
	fmt.Printf("%-18s %-28s %9s %9s %9s\n", "texts", "program", "time", "edits", "times ours")
	for _, c := range []texts{pair("1% changed", 0.01), pair("30% changed", 0.3), different(), moved(), duplicates()} {
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
			{"magpie diff", []string{"bin/magpie", "diff", fa, fb}},
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
	took, _, err := race([]string{"bin/magpie", "--version"})
	if err == nil {
		fmt.Printf("of which the program needs to start: %.0f ms\n", float64(took.Microseconds())/1000)
	}
	return err
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

// moved is a text of which a third stands elsewhere.
func moved() texts {
	a := config(rand.New(rand.NewPCG(5, 6)), 200_000)
	third := len(a) / 3
	return texts{"a moved block", a, slices.Concat(a[third:2*third], a[:third], a[2*third:])}
}

// duplicates are texts of few different lines, of which one in fifty was changed.
func duplicates() texts {
	r := rand.New(rand.NewPCG(7, 8))
	a := make([]string, 200_000)
	for i := range a {
		a[i] = fmt.Sprintf("  mtu %d", 1400+r.IntN(8)*100)
	}
	b := slices.Clone(a)
	for i := range b {
		if r.IntN(50) == 0 {
			b[i] = fmt.Sprintf("  mtu %d", 1400+r.IntN(8)*100)
		}
	}
	return texts{"many duplicates", a, b}
}
