package cli

import (
	"cmp"
	"context"
	"fmt"
	"os"
	"strconv"
	"strings"

	"github.com/mattn/go-runewidth"
	"github.com/schollz/progressbar/v3"
	"github.com/urfave/cli/v3"
	"golang.org/x/term"

	"magpie/client"
	"magpie/internal/core/ref"
)

func (a *app) search() *cli.Command {
	return a.described(a.do("search", "[TEXT] [SELECTOR…]", "find lines in what runs now, or blocks that lack one", []cli.Flag{
		&cli.StringFlag{Name: "in", Usage: "only in blocks that begin with `WORDS`, as in --in lane"},
		&cli.StringFlag{Name: "lacks", Usage: "the blocks of --in that have no line with `TEXT`"},
		&cli.BoolFlag{Name: "re", Usage: "these are expressions (RE2)"},
		&cli.StringFlag{Name: "part", Usage: "of this `PART` only"},
		&cli.BoolFlag{Name: "all-parts", Usage: "also of parts that follow others, as startup follows running"},
		&cli.BoolFlag{Name: "history", Usage: "in all versions: since when a line is there, until when it was, and who took it out"},
		&cli.BoolFlag{Name: "since", Usage: "tell which version brought each line in"},
		&cli.BoolFlag{Name: "secrets", Usage: "secrets as they are, which is written down"},
		&cli.IntFlag{Name: "limit", Value: 100, Usage: "at most `N`"},
		&cli.StringFlag{Name: "save", Usage: "keep this search by a `NAME`, for everybody"},
		&cli.StringFlag{Name: "saved", Usage: "the search that is kept by this `NAME`"},
		&cli.StringFlag{Name: "forget", Usage: "forget the search of this `NAME`"},
		&cli.BoolFlag{Name: "list", Usage: "list the searches that are kept"},
		&cli.BoolFlag{Name: "count", Usage: "how many on each device, and no lines"},
	}, 0, -1, a.searched), "The text is looked for as it stands in the newest versions of all devices, or of those of a SELECTOR. With --lacks there is no TEXT: magpie search --in lane --lacks sieve site=skerrinsay. "+
		"Secrets are hidden and not found, if they are not asked for. Exit status 1: nothing was found. "+selecting)
}

func (a *app) searched(ctx context.Context, c *cli.Command, s *client.Client, got []string) error {
	q := client.Search{In: c.String("in"), Lacks: c.String("lacks"), Regexp: c.Bool("re"), Part: c.String("part"), AllParts: c.Bool("all-parts"), Secrets: c.Bool("secrets"), Since: c.Bool("since")}
	history := c.Bool("history")
	switch saved := c.String("saved"); {
	case c.Bool("list") || c.String("forget") != "":
		return a.keptSearches(ctx, c, s)
	case saved != "":
		k, err := a.keptSearch(ctx, s, saved)
		if err != nil {
			return err
		}
		if len(got) > 0 || q.In != "" || q.Lacks != "" {
			return fmt.Errorf("--saved %s says what is looked for; leave the rest out", saved)
		}
		q.Line, q.In, q.Lacks, q.Regexp, q.AllParts, got = k.Line, k.In, k.Lacks, k.Regexp, k.AllParts, k.Selector
		history = history || k.History
	}
	if q.Line == "" && q.Lacks == "" && len(got) > 0 && c.String("saved") == "" {
		q.Line, got = got[0], got[1:]
	}
	if q.Line == "" && q.In == "" {
		return fmt.Errorf("usage: magpie search TEXT [SELECTOR…], or magpie search --in WORDS [--lacks TEXT] [SELECTOR…]")
	}
	q.Selector = got
	if name := c.String("save"); name != "" {
		if q.Secrets {
			return fmt.Errorf("a search with secrets is not kept; leave --secrets out")
		}
		if _, err := s.SaveSearch(ctx, name, client.NewSearch{Line: q.Line, In: q.In, Lacks: q.Lacks, Regexp: q.Regexp, Selector: q.Selector, AllParts: q.AllParts, History: history}); err != nil {
			return err
		}
		a.tell("kept; again: magpie search --saved %s\n", strconv.Quote(name))
	}
	if history {
		if c.Bool("count") || c.Bool("since") {
			return fmt.Errorf("--history says since when by itself, and counts nothing; leave --since and --count out")
		}
		return a.searchedPast(ctx, c, s, q)
	}
	var all client.SearchPage
	for cursor := ""; ; cursor = all.Next {
		most := 500
		if !c.Bool("count") {
			most = min(most, c.Int("limit")-len(all.Items))
		}
		page, err := s.Find(ctx, q, cursor, most)
		if err != nil {
			return err
		}
		page.Items = append(all.Items, page.Items...)
		if all = page; all.Next == "" || !c.Bool("count") && len(all.Items) >= c.Int("limit") {
			break
		}
	}
	a.print(c, all, func() {
		if c.Bool("count") {
			a.counted(all.Items)
		} else {
			a.found(all.Items)
		}
	})
	where := count(all.Texts, "text", "texts")
	if all.Unread > 0 {
		where += fmt.Sprintf("; %s not, being no text", count(all.Unread, "part was", "parts were"))
	}
	switch {
	case len(all.Items) == 0:
		a.tell("nothing was found in %s\n", where)
		return errDiffers
	case all.Next != "":
		a.tell("%s\n", a.s.paint(faint, fmt.Sprintf("the first %d of more, in %s; --limit shows more, --count how many on each device", len(all.Items), where)))
	default:
		a.tell("%s\n", a.s.paint(faint, fmt.Sprintf("%s on %s, in %s", count(len(all.Items), "hit", "hits"), count(devicesOf(all.Items), "device", "devices"), where)))
	}
	return nil
}

// searchedPast reads all versions, and says how far it is.
func (a *app) searchedPast(ctx context.Context, c *cli.Command, s *client.Client, q client.Search) error {
	var all client.PastPage
	bar := progressbar.NewOptions(-1, progressbar.OptionSetWriter(os.Stderr), progressbar.OptionClearOnFinish(), progressbar.OptionSetVisibility(term.IsTerminal(int(os.Stderr.Fd()))))
	defer func() { _ = bar.Finish() }()
	for cursor := ""; ; cursor = all.Next {
		page, err := s.FindPast(ctx, q, cursor, max(1, min(500, c.Int("limit")-len(all.Items))))
		if err != nil {
			return err
		}
		page.Items = append(all.Items, page.Items...)
		page.Parts, page.Versions, page.Unread = all.Parts+page.Parts, all.Versions+page.Versions, all.Unread+page.Unread
		if all = page; all.Next == "" || len(all.Items) >= c.Int("limit") {
			break
		}
		bar.Describe(fmt.Sprintf("%s of %s read, as far as %s", count(all.Versions, "version", "versions"), count(all.Parts, "part", "parts"), all.Next))
		_ = bar.Add(1)
	}
	if most := c.Int("limit"); len(all.Items) > most {
		all.Items = all.Items[:most]
		all.Next = cmp.Or(all.Next, "more")
	}
	a.print(c, all, func() { a.past(all.Items) })
	where := fmt.Sprintf("%s of %s", count(all.Versions, "version", "versions"), count(all.Parts, "part", "parts"))
	switch {
	case len(all.Items) == 0:
		a.tell("nothing was found in %s\n", where)
		return errDiffers
	case all.Next != "":
		a.tell("%s\n", a.s.paint(faint, fmt.Sprintf("the first %d of more, in %s; --limit shows more", len(all.Items), where)))
	default:
		a.tell("%s\n", a.s.paint(faint, fmt.Sprintf("%s, in %s", count(len(all.Items), "hit", "hits"), where)))
	}
	return nil
}

// past shows lines by the part and the blocks they stood in, each with its time.
func (a *app) past(all []client.Past) {
	part, path := "", ""
	for _, p := range all {
		name := p.Device + "/" + p.Part
		if name != part {
			a.s.printf("%s\n", a.s.paint(strong, name))
			part, path = name, ""
		}
		if p.Path != path {
			if path = p.Path; path != "" {
				a.s.printf("  %s\n", a.s.paint(faint, path))
			}
		}
		indent := "  "
		if path != "" {
			indent = "    "
		}
		style, mark := plain, " "
		if p.Gone != nil {
			style, mark = removed, "−"
		}
		a.s.printf("%s%s %s\n%s    %s\n", indent, a.s.paint(style, mark), a.s.paint(style, p.Text), indent, a.s.paint(faint, cameIn(p.From)+goneBy(p)))
	}
}

// goneBy says with which version a line went.
func goneBy(p client.Past) string {
	if p.Gone == nil {
		return ""
	}
	out := fmt.Sprintf("; gone %s (version %d)", when(p.Gone.TakenAt), p.Gone.Number)
	if p.Gone.Author != "" {
		out += " by " + p.Gone.Author
	}
	return out
}

// keptSearch is the search of a name.
func (a *app) keptSearch(ctx context.Context, s *client.Client, name string) (client.SavedSearch, error) {
	all, err := s.Searches(ctx)
	if err != nil {
		return client.SavedSearch{}, err
	}
	var names []string
	for _, k := range all {
		if k.Name == name {
			return k, nil
		}
		names = append(names, k.Name)
	}
	asked := ref.Meant(name, names)
	if asked == "" {
		asked = "see which there are: magpie search --list"
	}
	return client.SavedSearch{}, fmt.Errorf("no search is kept as %q\n%s", name, asked)
}

// keptSearches lists what is kept, or forgets one.
func (a *app) keptSearches(ctx context.Context, c *cli.Command, s *client.Client) error {
	if name := c.String("forget"); name != "" {
		if err := s.ForgetSearch(ctx, name); err != nil {
			return err
		}
		a.tell("forgotten\n")
		return nil
	}
	all, err := s.Searches(ctx)
	if err != nil {
		return err
	}
	a.print(c, all, func() {
		if len(all) == 0 {
			a.s.printf("None is kept. Keep one: magpie search TEXT --save NAME\n")
			return
		}
		var rows [][]cell
		for _, k := range all {
			rows = append(rows, []cell{{k.Name, strong}, {soughtIn(k.NewSearch), plain}, {k.By, faint}, {when(k.At), faint}})
		}
		a.s.table([]string{"search", "looks for", "by", "kept"}, rows)
	})
	return nil
}

// soughtIn says in words what is looked for.
func soughtIn(k client.NewSearch) string {
	out := k.Line
	if k.Regexp {
		out += " (RE2)"
	}
	if k.In != "" {
		out += " in " + k.In
	}
	if k.Lacks != "" {
		out += " without " + k.Lacks
	}
	if len(k.Selector) > 0 {
		out += " on " + strings.Join(k.Selector, " ")
	}
	if k.History {
		out += ", in all versions"
	}
	return strings.TrimSpace(out)
}

func devicesOf(all []client.Found) int {
	seen := map[string]bool{}
	for _, f := range all {
		seen[f.Device] = true
	}
	return len(seen)
}

// found shows hits by the version they are in, each with the blocks around it.
func (a *app) found(all []client.Found) {
	version, path := "", ""
	digits := 1
	for _, f := range all {
		digits = max(digits, len(fmt.Sprint(f.Line)))
	}
	for _, f := range all {
		if f.Ref != version {
			a.s.printf("%s %s\n", a.s.paint(strong, f.Ref), a.s.paint(faint, "taken "+when(f.TakenAt)))
			version, path = f.Ref, ""
		}
		if f.Path != path {
			if path = f.Path; path != "" {
				a.s.printf("  %*s %s\n", digits, "", a.s.paint(faint, path))
			}
		}
		came := ""
		if f.Origin != nil {
			came = "  " + a.s.paint(faint, cameIn(*f.Origin))
		}
		indent := ""
		if path != "" {
			indent = "  "
		}
		a.s.printf("  %s %s%s%s\n", a.s.paint(faint, fmt.Sprintf("%*d", digits, f.Line)), indent, strings.TrimSpace(f.Text), came)
	}
}

// cameIn says with which version a line came.
func cameIn(o client.Origin) string {
	if o.First {
		return fmt.Sprintf("since %s or earlier (version %d, the oldest there is)", when(o.TakenAt), o.Number)
	}
	since := fmt.Sprintf("since %s (version %d)", when(o.TakenAt), o.Number)
	if o.Author == "" { // the device does not say who changed it
		return since + ", pulled " + o.Reason
	}
	return since + " by " + o.Author
}

// counted shows how many hits there are on each device.
func (a *app) counted(all []client.Found) {
	var rows [][]cell
	n := 0
	for i, f := range all {
		if n++; i+1 == len(all) || all[i+1].Ref != f.Ref {
			rows = append(rows, []cell{{f.Ref, strong}, {fmt.Sprint(n), plain}, {when(f.TakenAt), plain}})
			n = 0
		}
	}
	if len(rows) > 0 {
		a.s.table([]string{"version", "hits", "taken"}, rows)
	}
}

// annotated says of each line of a version, or of those with a text, which version brought it in.
func (a *app) annotated(ctx context.Context, c *cli.Command, s *client.Client, which, text string) error {
	all, err := s.Origins(ctx, which)
	if err != nil {
		return err
	}
	if text != "" {
		var some []client.LineOrigin
		for _, l := range all {
			if strings.Contains(l.Text, text) {
				some = append(some, l)
			}
		}
		if all = some; len(all) == 0 {
			a.tell("no line of %s has %q\n", which, text)
			return errDiffers
		}
	}
	a.print(c, all, func() {
		wide := [3]int{len("version"), len("taken"), len("by")}
		var rows [][3]string
		for i, l := range all {
			version, taken, by := fmt.Sprint(l.Number), when(l.TakenAt), l.Author
			if l.First {
				version, by = "≤"+version, ""
			}
			if i > 0 && all[i-1].Number == l.Number && all[i-1].Line == l.Line-1 { // as the line above
				version, taken, by = "", "", ""
			}
			rows = append(rows, [3]string{version, taken, by})
			for k, w := range rows[i] {
				wide[k] = max(wide[k], runewidth.StringWidth(w))
			}
		}
		row := func(style string, w [3]string, line, text string) {
			for k, word := range w {
				w[k] = word + strings.Repeat(" ", wide[k]-runewidth.StringWidth(word))
			}
			a.s.printf("%s  %s  %s  %s  %s\n", a.s.paint(style, w[0]), a.s.paint(faint, w[1]), a.s.paint(faint, w[2]), a.s.paint(faint, fmt.Sprintf("%5s", line)), text)
		}
		row(faint, [3]string{"version", "taken", "by"}, "line", a.s.paint(faint, "text"))
		for i, l := range all {
			row(strong, rows[i], fmt.Sprint(l.Line), l.Text)
		}
	})
	return nil
}

// together shows what changed, what hit several devices alike as one.
func (a *app) together(page client.TogetherPage) {
	for _, t := range page.Items {
		devices := []string{}
		for _, v := range t.Versions {
			devices = append(devices, v.Ref)
		}
		by := ""
		if len(t.By) > 0 {
			by = " by " + strings.Join(t.By, ", ")
		}
		span := when(t.To)
		if !t.From.Equal(t.To) {
			span = when(t.From) + " to " + when(t.To)
		}
		head := devices[0]
		if t.Devices > 1 {
			head = fmt.Sprintf("%d devices alike", t.Devices)
		} else if len(devices) > 1 {
			head = strings.Join(devices, " ")
		}
		a.s.printf("%s  %s%s\n", a.s.paint(strong, head), a.s.paint(faint, span), a.s.paint(faint, by))
		if t.Devices > 1 {
			few := devices[:min(len(devices), 6)]
			more := ""
			if len(few) < len(devices) {
				more = fmt.Sprintf(" and %d more", len(devices)-len(few))
			}
			a.s.printf("  %s%s\n", strings.Join(few, " "), more)
		}
		if len(t.Lines) == 0 {
			a.s.printf("  %s\n", a.s.paint(faint, "the first version, or no text"))
		}
		path := ""
		for i, l := range t.Lines {
			if l.Path != path {
				if path = l.Path; path != "" {
					a.s.printf("  %s\n", a.s.paint(faint, "in "+path))
				}
			}
			if i == 12 {
				a.s.printf("  %s\n", a.s.paint(faint, fmt.Sprintf("… +%d −%d in all", t.Added, t.Removed)))
				break
			}
			if l.Came {
				a.s.printf("  %s\n", a.s.paint(added, "+"+l.Text))
			} else {
				a.s.printf("  %s\n", a.s.paint(removed, "-"+l.Text))
			}
		}
	}
	if page.More {
		a.s.printf("%s\n", a.s.paint(faint, "and older ones: choose a shorter span"))
	}
}
