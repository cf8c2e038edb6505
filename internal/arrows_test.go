package internal

import (
	"os/exec"
	"strings"
	"testing"
)

// TestArrows holds the packages to the direction in which they may import each
// other: computation knows nothing of input and output, the simulator nothing
// of the product, and only the store speaks SQL.
func TestArrows(t *testing.T) {
	const m = "magpie/"
	may := map[string][]string{
		m + "client":            {},
		m + "dialects":          {},
		m + "internal/core":     {m + "internal/core"},
		m + "internal/dialect":  {m + "internal/core"},
		m + "internal/link":     {m + "internal/core", m + "internal/dialect"},
		m + "internal/seal":     {m + "internal/core"},
		m + "internal/check":    {},
		m + "internal/store":    {m + "internal/core", m + "internal/seal"},
		m + "internal/job":      {m + "internal/core", m + "internal/store"},
		m + "internal/work":     {m + "internal/job", m + "internal/core", m + "internal/dialect", m + "internal/link", m + "internal/store", m + "internal/seal", m + "internal/check"},
		m + "internal/api":      {m + "internal/core", m + "internal/dialect", m + "internal/link", m + "internal/store", m + "internal/job", m + "internal/work", m + "client"},
		m + "internal/cli":      {m + "internal/core/ref", m + "internal/dialect", m + "internal/run", m + "client"},
		m + "internal/sim":      {m + "internal/sim"},
		m + "cmd/magpie-sim":    {m + "internal/sim"},
		m + "cmd/magpie":        {m + "internal/cli"},
		m + "internal/run":      {m + "internal", m + "client", m + "dialects", m + "console"},
		m + "console":           {},
		m + "internal/bench":    {m + "internal", m + "client", m + "dialects"},
		m + "internal/core/ref": {},
	}
	under := func(pkg, root string) bool { return pkg == root || strings.HasPrefix(pkg, root+"/") }
	out, err := exec.Command("go", "list", "-f", "{{.ImportPath}} {{join .Imports \" \"}}", m+"...").Output()
	if err != nil {
		t.Fatal(err)
	}
	for _, line := range strings.Split(strings.TrimSpace(string(out)), "\n") {
		f := strings.Fields(line)
		room := ""
		for root := range may {
			if under(f[0], root) && len(root) > len(room) {
				room = root
			}
		}
		for _, imported := range f[1:] {
			if strings.HasPrefix(imported, "net") && under(f[0], m+"internal/core") && imported != "net/netip" || imported == "os" && under(f[0], m+"internal/core") {
				t.Errorf("%s imports %s: core does no input or output", f[0], imported)
			}
			if (imported == "database/sql" || strings.Contains(imported, "sqlx")) && !under(f[0], m+"internal/store") && f[0] != m+"internal/run" && f[0] != m+"internal/scratch" {
				t.Errorf("%s imports %s: SQL lives in the store", f[0], imported)
			}
			if !strings.HasPrefix(imported, m) || room == "" {
				continue
			}
			ok := under(imported, room)
			for _, root := range may[room] {
				ok = ok || under(imported, root)
			}
			if !ok {
				t.Errorf("%s imports %s, which points the wrong way", f[0], imported)
			}
		}
	}
}
