package cli

import (
	"context"
	"errors"
	"fmt"
	"html/template"
	"os"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/mattn/go-runewidth"
	"github.com/urfave/cli/v3"

	"magpie/client"
	"magpie/internal/core/diff"
	"magpie/internal/core/ref"
	"magpie/internal/dialect"
	"magpie/internal/run"
)

// forms are what a comparison can be written as.
var forms = []string{"lines", "side", "tree", "summary", "html"}

func (a *app) diff() *cli.Command {
	return a.described(&cli.Command{Name: "diff", ArgsUsage: "REF [REF] | FILE FILE", Usage: "compare two versions, or two files; with one version, it and what came after it", ShellComplete: a.complete("REF"), Flags: []cli.Flag{
		&cli.IntFlag{Name: "context", Aliases: []string{"c"}, Value: 3, Usage: "unchanged `LINES` around each change"},
		&cli.BoolFlag{Name: "all", Usage: "also lines that change by themselves"},
		&cli.StringFlag{Name: "as", Value: "lines", Usage: "`FORM`: " + strings.Join(forms, ", ")},
		&cli.StringFlag{Name: "dialect", Usage: "`NAME` of the dialect that reads files, or a file that holds one (FILE.yaml)"},
		&cli.StringFlag{Name: "part", Usage: "`PART` that files are; the dialect's main one if not said"},
	}, Action: func(ctx context.Context, c *cli.Command) error {
		got, err := args(c, 1, 2)
		if err == nil && !slices.Contains(forms, c.String("as")) {
			err = fmt.Errorf("--as takes %s, not %q", strings.Join(forms, ", "), c.String("as"))
		}
		if err != nil {
			return err
		}
		files := 0
		for _, arg := range got {
			if isFile(arg) {
				files++
			}
		}
		switch {
		case files == 2:
			return a.diffFiles(c, got[0], got[1])
		case files == 1 && len(got) == 2:
			return a.diffWithFile(ctx, c, got)
		case files == 1 && strings.ContainsAny(got[0], "/."):
			return fmt.Errorf("%s is a file; say what to compare it with: another file, or a version", got[0])
		case c.String("dialect") != "" || c.String("part") != "":
			return errors.New("--dialect and --part are for files; a device's dialect is known, and a part is named as DEVICE/PART")
		}
		return a.diffVersions(ctx, c, got)
	}}, "An argument that is the name of a file here is that file; of two files no service is asked, and without --dialect they are compared as they stand. "+
		"Exit status 1 says that they differ. --as lines is what patch and git apply read.")
}

// isFile tells whether an argument names a file here.
func isFile(arg string) bool {
	info, err := os.Stat(arg)
	return err == nil && !info.IsDir() || strings.HasPrefix(arg, "./") || strings.HasPrefix(arg, "../") || strings.HasPrefix(arg, "/")
}

func (a *app) diffVersions(ctx context.Context, c *cli.Command, got []string) error {
	s, err := a.client(c)
	if err != nil {
		return err
	}
	from, err := reference(got[0], "")
	if err != nil {
		return err
	}
	to := ""
	if len(got) == 2 {
		if to, err = reference(got[1], got[0]); err != nil {
			return err
		}
	} else if from, to, err = pair(got[0]); err != nil {
		return err
	}
	d, err := s.Diff(ctx, from, to, c.Int("context"), c.Bool("all"))
	if err != nil {
		return err
	}
	return a.compared(c, d)
}

// compared shows a comparison, and says by the exit status whether there is a difference.
func (a *app) compared(c *cli.Command, d client.Diff) error {
	a.print(c, d, func() { a.showDiff(c.String("as"), d) })
	if d.Relation == "different" {
		return errDiffers
	}
	return nil
}

// diffFiles compares two files, which no service needs to know.
func (a *app) diffFiles(c *cli.Command, one, other string) error {
	name := c.String("dialect")
	if name == "" && c.String("part") != "" {
		return errors.New("--part says which part of a dialect the files are; name that with --dialect")
	}
	if name == "" && c.String("as") == "lines" && !a.s.colour && a.s.raw != nil && !c.Bool("json") {
		return a.diffPlain(one, other, c.Int("context"))
	}
	var doc *dialect.Doc
	if name != "" {
		var err error
		if doc, err = run.FileDialect(name, c.String("part")); err != nil {
			return err
		}
	}
	from, err := run.File(one, doc)
	if err != nil {
		return err
	}
	to, err := run.File(other, doc)
	if err != nil {
		return err
	}
	d, err := run.CompareFiles(from, to, c.Int("context"), c.Bool("all"))
	if err != nil {
		return err
	}
	return a.compared(c, d)
}

// diffWithFile compares a version with a file, or a file with a version.
func (a *app) diffWithFile(ctx context.Context, c *cli.Command, got []string) error {
	if c.String("dialect") != "" || c.String("part") != "" {
		return errors.New("the file is read as the version is; leave --dialect and --part out")
	}
	file, version := got[0], got[1]
	first := isFile(file)
	if !first {
		file, version = version, file
	}
	which, err := reference(version, "")
	if err != nil {
		return err
	}
	f, err := run.File(file, nil)
	if err != nil {
		return err
	}
	if !utf8.ValidString(f.Content) {
		return fmt.Errorf("%s is no text; take the version out and compare the files: magpie show %s --output FILE", file, version)
	}
	s, err := a.client(c)
	if err != nil {
		return err
	}
	d, err := s.DiffFile(ctx, client.NewFileDiff{Ref: which, Name: file, Text: f.Content, WrittenAt: f.At, FileFirst: first, Context: c.Int("context"), All: c.Bool("all")})
	if err != nil {
		return err
	}
	return a.compared(c, d)
}

// diffPlain compares two files as they stand, and writes what differs as it is found.
func (a *app) diffPlain(one, other string, context int) error {
	from, to, x, y, err := run.Files(one, other)
	if err != nil {
		return err
	}
	if from.Content == to.Content {
		a.tell("%s and %s are identical\n", one, other)
		return nil
	}
	named := func(name string, at time.Time) string {
		return name + "\t" + at.In(zone()).Format("2006-01-02 15:04:05 -0700")
	}
	es := diff.Texts(x, y)
	if err := diff.Unified(a.s.raw, named(one, from.At), named(other, to.At), x, y, es, context, nil); err != nil {
		return err
	}
	gone, came := 0, 0
	for _, e := range es {
		gone, came = gone+e.End-e.Start, came+e.To-e.From
	}
	a.tell("%s\n", a.s.paint(faint, fmt.Sprintf("%s removed, %s added", count(gone, "line", "lines"), count(came, "line", "lines"))))
	return errDiffers
}

// pair is what one reference is compared with: the newest version, or, for the
// newest, the one before it.
func pair(raw string) (from, to string, err error) {
	r, err := ref.ParseVersion(raw, here())
	if err != nil {
		return "", "", err
	}
	newest, before := r, r
	newest.Which, before.Which = "latest", "previous"
	switch r.Which {
	case "latest":
		return before.String(), newest.String(), nil
	case "live":
		return newest.String(), r.String(), nil
	}
	return r.String(), newest.String(), nil
}

func (a *app) showDiff(as string, d client.Diff) {
	for _, sure := range []string{d.FromSure, d.ToSure} {
		if sure != "" {
			a.tell("%s\n", a.s.paint(faint, sure))
		}
	}
	opaque := strings.Contains(d.Unified, "is an opaque file of")
	switch {
	case opaque:
		a.s.text(d.Unified) // it says all there is to say, and there are no lines
		return
	case as == "tree":
		a.treeDiff(d)
	case as == "side":
		a.sideDiff(d)
	case as == "html":
		a.htmlDiff(d)
		return
	case as == "summary":
		a.s.text(summaryOf(d))
		return
	case a.s.colour:
		a.colourDiff(d)
	default:
		a.s.text(inZone(d, d.Unified))
	}
	note := ""
	switch d.Relation {
	case "identical":
		note = fmt.Sprintf("%s and %s are identical", d.From, d.To)
	case "unchanged":
		note = fmt.Sprintf("%s and %s say the same", d.From, d.To)
		if d.SetAside == 0 {
			break
		}
		note = fmt.Sprintf("%s and %s are the same but for %s", d.From, d.To, count(d.SetAside, "line that changes by itself", "lines that change by themselves"))
	case "equivalent":
		note = fmt.Sprintf("%s and %s are written differently and mean the same", d.From, d.To)
	default:
		note = fmt.Sprintf("%s removed, %s added", count(d.Removed, "line", "lines"), count(d.Added, "line", "lines"))
		if d.SetAside > 0 {
			note += fmt.Sprintf("; %s not shown (--all shows them)", count(d.SetAside, "line that changes by itself", "lines that change by themselves"))
		}
	}
	if d.Ignored > 0 {
		note += "; " + noiseOf(d)
	}
	if d.Unsure > 0 {
		note += fmt.Sprintf("; %s could not be compared: the device shows it otherwise each time, or not at all", count(d.Unsure, "secret", "secrets"))
	}
	if gone := letGo(d.LetGo); gone != "" {
		note += "; the dialect lets go: " + gone
	}
	a.tell("%s\n", a.s.paint(faint, note))
}

// letGo words what the dialect's rules let go; empty: nothing.
func letGo(g client.LetGo) string { return dialect.Gone(g).Words() }

// noiseOf says which rules left lines out, and how many.
func noiseOf(d client.Diff) string {
	var by []string
	for _, h := range d.Hidden {
		rule := "rule " + h.Rule
		if h.Rule == client.DialectRule {
			rule = "its dialect, as one device's own"
		}
		by = append(by, fmt.Sprintf("%d by %s", h.Lines, rule))
	}
	return fmt.Sprintf("%s left out: %s (--all shows them)", count(d.Ignored, "line", "lines"), strings.Join(by, ", "))
}

// inZone writes the times in a comparison's header as they read here.
func inZone(d client.Diff, unified string) string {
	head, rest, found := strings.Cut(unified, "\n@@")
	if !found {
		return unified
	}
	lines := strings.Split(head, "\n")
	for i, l := range lines {
		ref, stamp, ok := strings.Cut(l, "\t")
		if at, err := time.Parse("2006-01-02 15:04:05 -0700", stamp); ok && err == nil {
			lines[i] = ref + "\t" + at.In(zone()).Format("2006-01-02 15:04:05 -0700")
		}
	}
	return strings.Join(lines, "\n") + "\n@@" + rest
}

// colourDiff shows the unified form in colour, with the words that differ
// marked and the block named.
func (a *app) colourDiff(d client.Diff) {
	head, _, _ := strings.Cut(inZone(d, d.Unified), "@@")
	for _, l := range strings.Split(strings.TrimSuffix(head, "\n"), "\n") {
		if l != "" {
			a.s.printf("%s\n", a.s.paint(strong, l))
		}
	}
	for _, h := range d.Hunks {
		where := fmt.Sprintf("@@ -%d,%d +%d,%d @@", h.From, h.FromLen, h.To, h.ToLen)
		if h.Block != "" {
			where += "  in " + h.Block
		}
		a.s.printf("%s\n", a.s.paint(faint, where))
		for _, l := range h.Lines {
			switch l.Op {
			case "add":
				a.s.printf("%s%s\n", a.s.paint(added, "+"), a.marked(l, added, addMark))
			case "remove":
				a.s.printf("%s%s\n", a.s.paint(removed, "-"), a.marked(l, removed, remMark))
			default:
				a.s.printf(" %s\n", l.Text)
			}
		}
	}
}

func (a *app) marked(l client.DiffLine, style, mark string) string {
	var b strings.Builder
	at := 0
	for _, m := range l.Marks {
		b.WriteString(a.s.paint(style, l.Text[at:m[0]]))
		b.WriteString(a.s.paint(mark, l.Text[m[0]:m[1]]))
		at = m[1]
	}
	b.WriteString(a.s.paint(style, l.Text[at:]))
	return b.String()
}

// treeDiff shows what became of the entries.
func (a *app) treeDiff(d client.Diff) {
	if d.Relation == "different" && len(d.Changes) == 0 {
		a.tell("their entries cannot be told apart: no dialect reads both, or they are to be the same byte for byte; --as lines shows them\n")
		return
	}
	path := ""
	for i, ch := range d.Changes {
		if i == 0 || ch.Path != path {
			path = ch.Path
			where := path
			if where == "" {
				where = "at the top"
			}
			a.s.printf("%s\n", a.s.paint(strong, where))
		}
		with := ""
		if ch.More > 0 && ch.Kind != "changed" {
			with = a.s.paint(faint, fmt.Sprintf("  with %s below it", count(ch.More, "line", "lines")))
		}
		switch ch.Kind {
		case "added":
			a.s.printf("  added    %s%s\n", a.s.paint(added, ch.To), with)
		case "removed":
			a.s.printf("  removed  %s%s\n", a.s.paint(removed, ch.From), with)
		case "changed":
			was, is := a.s.paint(removed, ch.From), a.s.paint(added, ch.To)
			if ch.Default && ch.FromLine == 0 {
				was += a.s.paint(faint, "  (by default)")
			} else if ch.Default {
				is += a.s.paint(faint, "  (by default)")
			}
			a.s.printf("  was      %s\n  is       %s\n", was, is)
		case "renamed":
			a.s.printf("  renamed  %s\n  to       %s%s\n", a.s.paint(removed, ch.From), a.s.paint(added, ch.To), strings.Replace(with, "below it", "below it the same", 1))
		case "moved":
			near := "to the beginning"
			if ch.Near != "" {
				near = "behind " + ch.Near
			}
			a.s.printf("  moved    %s  %s%s\n", ch.To, a.s.paint(faint, near), with)
		}
	}
}

// sideDiff shows both sides beside each other, as wide as the terminal.
func (a *app) sideDiff(d client.Diff) {
	width := a.s.width
	if width <= 0 {
		width = 160
	}
	digits := 1
	for _, h := range d.Hunks {
		digits = max(digits, len(fmt.Sprint(h.From+h.FromLen)), len(fmt.Sprint(h.To+h.ToLen)))
	}
	half := max((width-2*(digits+1)-3)/2, 10)
	cut := func(style, text string) string {
		text = strings.ReplaceAll(text, "\t", "    ")
		pad := ""
		if n := runewidth.StringWidth(text); n > half {
			text = runewidth.Truncate(text, half, "…")
			pad = strings.Repeat(" ", max(half-runewidth.StringWidth(text), 0))
		} else {
			pad = strings.Repeat(" ", half-n)
		}
		if style == "" {
			return text + pad
		}
		return a.s.paint(style, text) + pad
	}
	number := func(n int) string {
		if n == 0 {
			return strings.Repeat(" ", digits)
		}
		return a.s.paint(faint, fmt.Sprintf("%*d", digits, n))
	}
	row := func(l, r client.DiffLine, mark string) {
		left, right := "", ""
		if l.Op == "remove" {
			left = removed
		}
		if r.Op == "add" {
			right = added
		}
		a.s.printf("%s\n", strings.TrimRight(number(l.From)+" "+cut(left, l.Text)+" "+mark+" "+number(r.To)+" "+cut(right, r.Text), " "))
	}
	a.s.printf("%s\n", strings.TrimRight(strings.Repeat(" ", digits+1)+cut(strong, d.From)+strings.Repeat(" ", digits+4)+cut(strong, d.To), " "))
	for _, h := range d.Hunks {
		a.s.printf("%s\n", a.s.paint(faint, "── "+where(h)))
		for i := 0; i < len(h.Lines); {
			if h.Lines[i].Op == "same" {
				row(h.Lines[i], h.Lines[i], " ")
				i++
				continue
			}
			gone, came := runOf(h.Lines, i, "remove"), 0
			came = runOf(h.Lines, i+gone, "add")
			for k := range max(gone, came) {
				var l, r client.DiffLine
				mark := "│"
				switch {
				case k < gone && k < came:
					l, r, mark = h.Lines[i+k], h.Lines[i+gone+k], "≠"
				case k < gone:
					l, mark = h.Lines[i+k], "−"
				default:
					r, mark = h.Lines[i+gone+k], "+"
				}
				row(l, r, mark)
			}
			i += gone + came
		}
	}
}

// runOf is how many lines from one on are of an operation.
func runOf(lines []client.DiffLine, from int, op string) (n int) {
	for from+n < len(lines) && lines[from+n].Op == op {
		n++
	}
	return n
}

// where names a hunk's place.
func where(h client.Hunk) string {
	if h.Block != "" {
		return "in " + h.Block
	}
	return fmt.Sprintf("line %d", max(h.To, 1))
}

// summaryOf says in a few lines what a mail has room for.
func summaryOf(d client.Diff) string {
	var b strings.Builder
	fmt.Fprintf(&b, "%s → %s: %s", d.From, d.To, d.Relation)
	if d.Relation == "different" {
		fmt.Fprintf(&b, ", %s removed, %s added", count(d.Removed, "line", "lines"), count(d.Added, "line", "lines"))
	}
	b.WriteString("\n")
	by := map[string][]string{}
	var paths []string
	note := func(path, what string) {
		if path == "" {
			path = "at the top"
		}
		if by[path] == nil {
			paths = append(paths, path)
		}
		if !slices.Contains(by[path], what) {
			by[path] = append(by[path], what)
		}
	}
	for _, ch := range d.Changes {
		switch ch.Kind {
		case "added":
			note(ch.Path, "+ "+ch.To)
		case "removed":
			note(ch.Path, "− "+ch.From)
		case "changed":
			note(ch.Path, ch.From+" → "+ch.To)
		default:
			note(ch.Path, ch.Kind+" "+ch.To)
		}
	}
	if len(d.Changes) == 0 {
		for _, h := range d.Hunks {
			for _, l := range h.Lines {
				switch l.Op {
				case "add":
					note(where(h), "+ "+l.Text)
				case "remove":
					note(where(h), "− "+l.Text)
				}
			}
		}
	}
	const mostPaths, mostLines = 12, 4
	for i, p := range paths {
		if i == mostPaths {
			fmt.Fprintf(&b, "  … and in %s more\n", count(len(paths)-mostPaths, "place", "places"))
			break
		}
		fmt.Fprintf(&b, "  %s\n", p)
		for k, l := range by[p] {
			if k == mostLines {
				fmt.Fprintf(&b, "    … and %d more\n", len(by[p])-mostLines)
				break
			}
			fmt.Fprintf(&b, "    %s\n", l)
		}
	}
	return b.String()
}

// page is a comparison as one page that needs nothing else.
var page = template.Must(template.New("diff").Funcs(template.FuncMap{"where": where, "letgo": letGo}).Parse(`<!doctype html>
<html lang="en"><head><meta charset="utf-8"><meta name="viewport" content="width=device-width"><title>{{.From}} and {{.To}}</title>
<style>
:root{color-scheme:light dark}
body{font:16px/1.5 system-ui,sans-serif;margin:2rem auto;max-width:72rem;padding:0 1rem}
h1{font-size:1.25rem;margin:0 0 .25rem}h2{font:600 .9rem system-ui,sans-serif;margin:1.5rem 0 .25rem}
p{margin:.25rem 0}table{border-collapse:collapse;width:100%;table-layout:fixed}
td{font:13px/1.5 ui-monospace,monospace;white-space:pre-wrap;overflow-wrap:anywhere;vertical-align:top;padding:0 .5rem}
td.n{width:4rem;text-align:right;opacity:.6;user-select:none}td.o{width:1.5rem;padding:0;text-align:center}
tr.add td{background:#1a7f3722}tr.remove td{background:#b4231822}
@media print{body{margin:0;max-width:none}h2{break-after:avoid}tr{break-inside:avoid}}
</style></head><body>
<h1>{{.From}} → {{.To}}</h1>
<p>{{.Relation}}{{if eq .Relation "different"}}: {{.Removed}} removed, {{.Added}} added{{end}}{{if .SetAside}}; {{.SetAside}} that change by themselves are not shown{{end}}{{if .Unsure}}; {{.Unsure}} secrets could not be compared{{end}}{{with letgo .LetGo}}; the dialect lets go: {{.}}{{end}}{{if .Masked}}; secrets are hidden{{end}}</p>
{{range .Hunks}}<h2>{{where .}}</h2><table>
{{range .Lines}}<tr class="{{.Op}}"><td class="n">{{if .From}}{{.From}}{{end}}</td><td class="n">{{if .To}}{{.To}}{{end}}</td><td class="o">{{if eq .Op "add"}}+{{else if eq .Op "remove"}}−{{end}}</td><td>{{.Text}}</td></tr>
{{end}}</table>
{{end}}</body></html>
`))

func (a *app) htmlDiff(d client.Diff) {
	if err := page.Execute(a.s.out, d); err != nil {
		a.tell("%v\n", err)
	}
}
