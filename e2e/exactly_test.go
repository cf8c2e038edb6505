package e2e

import (
	"strings"
	"testing"

	"magpie/client"
)

// TestExactly: a version that is written differently from what runs and means the same is not
// sent, and that is said; asked for exactly, it goes as a whole and is verified; where lines
// are typed it is refused.
func TestExactly(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 1, withFamilies("heron"))
	const f = "control-f1"
	w.pull(f)
	w.pull(r1)
	was := must(w.admin.Text(ctx(t), f+"@1"))(t).Text
	lines := strings.SplitAfter(was, "\n")
	at := -1
	for i := range len(lines) - 1 {
		a, b := lines[i], lines[i+1]
		leaf := func(l string) bool { return strings.HasSuffix(l, "</operator>\n") || strings.HasSuffix(l, "</port>\n") }
		if leaf(a) && leaf(b) {
			at = i
		}
	}
	if at < 0 {
		t.Fatalf("no two lines to swap in\n%s", was)
	}
	lines[at], lines[at+1] = lines[at+1], lines[at]
	edited := must(w.admin.Edit(ctx(t), client.NewVersion{Ref: f + "@1", Text: strings.Join(lines, "")}))(t)
	p := w.preview(client.NewPreview{Ref: edited.Ref})
	if len(p.Steps) != 0 || p.LetGo.Order == 0 {
		t.Errorf("%+v", p)
	}
	p = w.preview(client.NewPreview{Ref: edited.Ref, Exactly: true})
	if len(p.Steps) == 0 || !p.Exactly {
		t.Fatalf("%+v", p)
	}
	end := w.end(must(w.admin.Push(ctx(t), client.NewPush{Preview: p.ID, Hash: p.Hash}, ""))(t).ID)
	if end.Outcome != "verified" || end.Push.Sent == 0 {
		t.Errorf("%s: %s, %+v", end.Outcome, end.Summary, end.Push)
	}
	out, said, status := w.cli("push", f+"@1", "--preview")
	if status != 0 || !strings.Contains(out, "mean the same: 1 line in another place.") || !strings.Contains(out, "--exactly") {
		t.Errorf("status %d\n%s%s", status, out, said)
	}
	if p := w.preview(client.NewPreview{Ref: edited.Ref, Exactly: true}); len(p.Steps) != 0 { // it runs byte for byte
		t.Errorf("%+v", p)
	}
	lines = strings.SplitAfter(must(w.admin.Text(ctx(t), r1+"@1"))(t).Text, "\n")
	for at = 0; !strings.HasPrefix(lines[at], "lane ") || !strings.HasPrefix(lines[at+2], "  "); {
		at++
	}
	lines[at+1], lines[at+2] = lines[at+2], lines[at+1]
	typed := must(w.admin.Edit(ctx(t), client.NewVersion{Ref: r1 + "@1", Text: strings.Join(lines, "")}))(t)
	j := w.end(must(w.admin.NewPreview(ctx(t), client.NewPreview{Ref: typed.Ref, Exactly: true}))(t).ID)
	if j.Outcome != "refused" || !strings.Contains(j.Summary, "types lines") {
		t.Errorf("%s: %s", j.Outcome, j.Summary)
	}
}
