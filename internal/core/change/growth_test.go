package change_test

import (
	"fmt"
	"strings"
	"testing"

	"magpie/internal/core/change"
	"magpie/internal/dialect"
)

// BenchmarkReplace plans a change of a quarter of a configuration's lines, in a
// doubling series: the time should double with the lines.
func BenchmarkReplace(b *testing.B) {
	straight, entangled := ternDialect(b), curlewDialect(b)
	course := func(n, via int) string {
		return fmt.Sprintf("course 10.%d.%d.0/24 via 10.1.%d.%d\n", n>>8, n&255, via, n%250+1)
	}
	for _, shape := range []struct {
		name  string
		d     *dialect.Dialect
		lines func(n, edition int) string
	}{
		{"flat", straight, func(n, edition int) string {
			var s strings.Builder
			for i := range n {
				if i%8 == 0 {
					s.WriteString(course(i+edition*n, 1))
				} else {
					s.WriteString(course(i, 2))
				}
			}
			return s.String()
		}},
		{"nested", straight, func(n, edition int) string {
			var s strings.Builder
			for i := range n / 4 {
				fmt.Fprintf(&s, "lane q%d\n  note \"edition %d\"\n  mtu %d\n  shut\n", i, edition, 1400+i%100)
			}
			return s.String()
		}},
		{"ordered", straight, func(n, edition int) string {
			var s strings.Builder
			s.WriteString("sieve a\n")
			for i := range n {
				if i >= n-n/8 {
					i += edition * n
				}
				fmt.Fprintf(&s, "  pass tcp from any to 10.%d.%d.0/24\n", i>>8, i&255)
			}
			return s.String()
		}},
		// Entries that move to other numbers, and blocks that take lines elsewhere with them.
		{"entangled", entangled, func(n, edition int) string {
			var s strings.Builder
			s.WriteString("gate a\n")
			for i := range n / 2 {
				fmt.Fprintf(&s, "  rung %d lets tcp any to 10.%d.%d.0/24\n", i*2+edition*(i%4/3), i>>8, i&255)
			}
			s.WriteString("end\n")
			for i := range n / 4 {
				if i%4 > 0 || edition == 0 {
					fmt.Fprintf(&s, "pier %d\nend\nwatch pier %d every 10\n", i, i)
				}
			}
			return s.String()
		}},
	} {
		d := shape.d
		for n := 2500; n <= 20000; n *= 2 {
			from, to := tree(b, d, shape.lines(n, 0)), tree(b, d, shape.lines(n, 1))
			b.Run(fmt.Sprintf("%s/%d", shape.name, n), func(b *testing.B) {
				var plan change.Plan
				for b.Loop() {
					plan = d.Language.Replace(from, to)
				}
				if len(plan.Steps) < n/8 || len(plan.Remains) > 0 {
					b.Fatalf("%d steps, %d lines remain", len(plan.Steps), len(plan.Remains))
				}
				b.ReportMetric(float64(len(plan.Steps)), "steps")
			})
		}
	}
}
