package e2e

import (
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"magpie/internal/sim"
)

// TestFromLogToDialect: each dialect of the page is whole, and with it the simulated
// device of that form is pulled.
func TestFromLogToDialect(t *testing.T) {
	t.Parallel()
	raw, err := os.ReadFile("../docs/from-log-to-dialect.md")
	if err != nil {
		t.Fatal(err)
	}
	w := newWorld(t, 1, withFamilies("fulmar,petrel,gannet,skua,dunlin"))
	devices := map[string]string{"strip": "skerrinsay-p1", "kept-by-hand": "workshop-k1", "mast": "skerrinsay-m1", "mesh": "control-w1", "gateway": "workshop-g1"}
	for _, m := range regexp.MustCompile("(?s)```yaml\n(dialect: (\\S+)\n.*?)```").FindAllStringSubmatch(string(raw), -1) {
		at := w.fleet.place(devices[m[2]])
		delete(devices, m[2])
		file := filepath.Join(w.dir, m[2]+".yaml")
		if err := os.WriteFile(file, []byte(m[1]), 0o600); err != nil {
			t.Fatal(err)
		}
		args := []string{"dialect", "try", file, "--address", at.Address, "--port", fmt.Sprint(at.Port), "--user", sim.ServiceUser}
		if m[2] == "kept-by-hand" {
			args = append(args, "--file-port", "sftp="+fmt.Sprint(at.Port))
		}
		transport := regexp.MustCompile(`transport: (\w+)`).FindStringSubmatch(m[1])[1]
		if transport != "http" {
			args = append(args, "--accept-key", must(w.admin.Probe(ctx(t), transport, at.Address, at.Port))(t).Fingerprint)
		}
		out, said, status := w.cli(args...)
		parts := regexp.MustCompile(`(?m)^part \S+ .*`).FindAllString(out, -1)
		whole := len(parts) > 0
		for _, p := range parts {
			whole = whole && (strings.HasSuffix(p, "complete") || strings.Contains(p, "has none"))
		}
		if status != 0 || !whole {
			t.Errorf("%s: %d\n%s%s", m[2], status, out, said)
		}
	}
	if len(devices) > 0 {
		t.Errorf("no dialect is shown for %v", devices)
	}
}
