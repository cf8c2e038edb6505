package e2e

import (
	"strings"
	"sync"
	"testing"

	"magpie/client"
	"magpie/dialects"
)

// TestRevisionsSideBySide: while instances know different revisions of a dialect, which set aside
// other lines, nothing that did not change has another version, whoever pulls it; and what did
// change has.
func TestRevisionsSideBySide(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 3)
	other, _ := w.another()
	src := string(must(dialects.Files.ReadFile("tern.yaml"))(t))
	const rule = "{path: 'domain <name>', overwrites: true}"
	if !strings.Contains(src, rule) {
		t.Fatal("the rule that is changed is not there any more")
	}
	devices := must(w.admin.Devices(ctx(t), []string{"kind=router"}))(t)
	pull := func() {
		var all sync.WaitGroup
		for _, d := range devices {
			for _, c := range []*client.Client{w.admin, other} {
				all.Go(func() {
					jobs, err := c.Pull(ctx(t), []string{d.Name}, "")
					if err == nil {
						_, err = c.Watch(ctx(t), jobs[0].ID, nil, nil)
					}
					if err != nil {
						t.Error(err)
					}
				})
			}
		}
		all.Wait()
	}
	pull()
	for n := range 6 {
		with := rule
		if n%2 == 0 {
			with = "{path: 'domain <name>', volatile: true}"
		}
		must(w.admin.LoadDialect(ctx(t), "tern.yaml", strings.Replace(src, rule, with, 1)))(t)
		pull() // by both, and by that revision
	}
	for _, d := range devices {
		if vs := w.versions(d.Name); len(vs) != 1 {
			t.Errorf("%s did not change, and has %d versions: %+v", d.Name, len(vs), vs)
		}
	}
	w.fleet.amend(r1, "mwilks", "domain elsewhere.example")
	pull()
	if vs := w.versions(r1); len(vs) != 2 || vs[0].Added != 1 || vs[0].Removed != 1 {
		t.Errorf("%s changed, and has %+v", r1, vs)
	}
}
