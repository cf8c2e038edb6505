package dialect

import (
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
)

// TestFormerKeys: a key of an earlier release is refused with what it is called now; a dialect that is kept with
// such keys, wherever they stand, is brought over, and nothing else in it changes.
func TestFormerKeys(t *testing.T) {
	older := map[string]string{}
	for was, all := range former {
		for _, now := range all {
			older[now] = was
		}
	}
	key := regexp.MustCompile(`([{\s,])([a-z_]+):`)
	files, err := filepath.Glob("../../dialects/*.yaml")
	if err != nil || len(files) < 9 {
		t.Fatalf("%d dialects, %v", len(files), err)
	}
	met := map[string]bool{}
	for _, f := range files {
		raw, err := os.ReadFile(f)
		if err != nil {
			t.Fatal(err)
		}
		now := string(raw)
		was := key.ReplaceAllStringFunc(now, func(m string) string {
			p := key.FindStringSubmatch(m)
			if p[2] == "logout" && strings.Contains(now, "login:\n") && strings.Contains(now, "auth: steps") { // web.logout was always called so
				return m
			}
			if old := older[p[2]]; old != "" && p[2] != "errors" || p[2] == "errors" && p[1] == "\n" {
				met[older[p[2]]] = true
				return p[1] + older[p[2]] + ":"
			}
			return m
		})
		if was == now {
			t.Errorf("%s has no key that was called otherwise", f)
			continue
		}
		_, err = Load(f, []byte(was))
		if err == nil || !strings.Contains(err.Error(), "now") {
			t.Errorf("%s with older keys: %v", f, err)
		}
		if got := Modern(was); got != now {
			t.Errorf("%s is brought over to\n%s", f, got)
		}
	}
	for _, k := range []string{"starts", "goodbye", "refusals", "sign", "whole", "beside", "landmarks", "notices", "otherwise"} {
		if !met[k] {
			t.Errorf("no dialect here has what was called %s", k)
		}
	}
}
