package main

import (
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"magpie/client"
	"magpie/internal/run"
	"magpie/internal/seal"
)

// searched is how many devices are searched, and how many lines each has.
const searchedDevices, searchedLines = 10_000, 1_000

// searches measures the first page of searches of what 10,000 devices run, beside grep -r of the same
// texts on a disk.
func searches(dir string) error {
	ctx := context.Background()
	files := filepath.Join(dir, "files")
	if err := os.MkdirAll(files, 0o700); err != nil {
		return err
	}
	texts := make([][]string, searchedDevices)
	for d := range texts {
		r := rand.New(rand.NewPCG(uint64(d), 11))
		lines := config(r, searchedLines)
		for i := range lines {
			if r.IntN(5) == 0 && strings.HasPrefix(lines[i], "  note") { // what no other device has
				lines[i] = fmt.Sprintf("  note \"berth %x\"", r.Uint64())
			}
		}
		lines[0] = fmt.Sprintf("name quay-%05d", d)
		text := strings.Join(lines, "\n") + "\n"
		texts[d] = []string{text}
		if err := os.WriteFile(filepath.Join(files, fmt.Sprintf("quay-%05d", d)), []byte(text), 0o600); err != nil {
			return err
		}
	}
	data := filepath.Join(dir, "search")
	if err := os.MkdirAll(data, 0o700); err != nil {
		return err
	}
	db, err := run.StartDatabase(ctx, data)
	if err != nil {
		return err
	}
	defer db.Stop()
	master, key := seal.NewMaster(), filepath.Join(data, "master.key")
	if err := master.Write(key); err != nil {
		return err
	}
	if _, _, err := keepAll(ctx, db.DSN(), master, texts, time.Date(2026, 11, 1, 2, 0, 0, 0, time.UTC)); err != nil {
		return err
	}
	c, pid, stop, err := signedIn(data, db.DSN(), key)
	if err != nil {
		return err
	}
	defer stop()
	before := resident(pid)
	began := time.Now()
	var first client.SearchPage
	for {
		if first, err = c.Find(ctx, client.Search{Line: "name quay-00007"}, "", 50); err == nil {
			break
		}
		if !client.IsStatus(err, 503) {
			return err
		}
	}
	fmt.Printf("\nSearching what %d devices run, %d lines each, %d different lines in all: read in %.0f s at the first search, by which the service grows from %d to %d MiB.\n",
		first.Texts, searchedLines, first.Distinct, time.Since(began).Seconds(), before, resident(pid))
	fmt.Printf("%-36s %10s %10s %10s %9s\n", "the first page of", "median", "99 of 100", "grep -r", "times")
	for _, x := range []struct {
		name string
		s    func(i int) client.Search
		grep []string
	}{
		{"a line that one device has", func(i int) client.Search { return client.Search{Line: fmt.Sprintf("name quay-%05d", i*83)} }, []string{"-F", "name quay-00083"}},
		{"a line that none has", func(i int) client.Search { return client.Search{Line: fmt.Sprintf("nowhere %d", i)} }, []string{"-F", "nowhere 1"}},
		{"a line that all have", func(int) client.Search { return client.Search{Line: "guard strict"} }, []string{"-F", "guard strict"}},
		{"an expression with a word", func(i int) client.Search {
			return client.Search{Line: fmt.Sprintf(`berth %x[0-9a-f]{13,}"$`, 16+i), Regexp: true}
		}, []string{"-E", `berth 1f[0-9a-f]{13,}"$`}},
		{"an expression without any", func(i int) client.Search {
			return client.Search{Line: fmt.Sprintf(`[xyz]\d{%d}$`, 5+i%7), Regexp: true}
		}, []string{"-P", `[xyz]\d{5}$`}},
		{"blocks that lack a line", func(i int) client.Search { return client.Search{In: "lane", Lacks: fmt.Sprintf("mtu 1%d00", 4+i%3)} }, nil},
	} {
		var took []time.Duration
		for i := range 120 {
			began := time.Now()
			if _, err := c.Find(ctx, x.s(i), "", 50); err != nil {
				return fmt.Errorf("%s: %w", x.name, err)
			}
			took = append(took, time.Since(began))
		}
		slices.Sort(took)
		ms := func(d time.Duration) float64 { return float64(d.Microseconds()) / 1000 }
		median, most := took[len(took)/2], took[len(took)*99/100]
		if x.grep == nil {
			fmt.Printf("%-36s %8.1fms %8.1fms\n", x.name, ms(median), ms(most))
			continue
		}
		least := time.Hour
		for range 3 {
			began := time.Now()
			_ = exec.Command("grep", append(append([]string{"-rh"}, x.grep...), files)...).Run()
			least = min(least, time.Since(began))
		}
		fmt.Printf("%-36s %8.1fms %8.1fms %8.0fms %9.1f\n", x.name, ms(median), ms(most), ms(least), float64(least)/float64(median))
	}
	fmt.Printf("the service has %d MiB after that\n", resident(pid))
	return nil
}

// resident is how much memory a process has, in MiB.
func resident(pid int) int {
	raw, _ := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid))
	m := regexp.MustCompile(`VmRSS:\s+(\d+) kB`).FindSubmatch(raw)
	if m == nil {
		return 0
	}
	kib, _ := strconv.Atoi(string(m[1]))
	return kib >> 10
}
