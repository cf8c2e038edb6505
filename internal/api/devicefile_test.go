package api

import (
	"runtime"
	"strings"
	"testing"
)

// FuzzDevices: no file of devices breaks the reader or takes much memory; what is
// read has a row, and so has each complaint.
func FuzzDevices(f *testing.F) {
	f.Add("name,address,dialect\nr1,192.0.2.1,tern\n")
	f.Add("\ufeffName, Address ,dialect,tags,port\n# aside\nr1,a,b,\"x y\",22\nr2,a,b,c,no\n\"")
	f.Add("name,address,dialect\n" + strings.Repeat("a,b,c\n", 6000))
	f.Add("name,address,dialect\n" + strings.Repeat("\"", 50_000))
	f.Add("name,address,dialect\n" + strings.Repeat("a,", 50_000))
	f.Fuzz(func(t *testing.T, src string) {
		var before, after runtime.MemStats
		runtime.ReadMemStats(&before)
		rows, lines, bad, err := readDevices(strings.NewReader(src))
		runtime.ReadMemStats(&after)
		if took := after.TotalAlloc - before.TotalAlloc; took > 32<<20 {
			t.Fatalf("%d bytes took %d MiB", len(src), took>>20)
		}
		if err != nil {
			return
		}
		if len(rows) != len(lines) || len(rows)+len(bad) > mostRows {
			t.Fatalf("%d rows, %d lines, %d bad", len(rows), len(lines), len(bad))
		}
		for _, n := range lines {
			if n < 2 {
				t.Fatalf("a device on row %d", n)
			}
		}
		for _, b := range bad {
			if b.Row < 1 || b.Detail == "" {
				t.Fatalf("%+v", b)
			}
		}
	})
}
