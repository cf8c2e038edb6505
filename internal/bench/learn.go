package main

import (
	"fmt"
	"math/rand/v2"
	"regexp"
	"slices"
	"strings"
	"time"

	"magpie/dialects"
	"magpie/internal/core/change"
	"magpie/internal/core/grammar"
	"magpie/internal/core/learn"
	"magpie/internal/core/rules"
	"magpie/internal/dialect"
	"magpie/internal/sim/box"
	"magpie/internal/sim/curlew"
	"magpie/internal/sim/fulmar"
	"magpie/internal/sim/gannet"
	"magpie/internal/sim/plover"
	"magpie/internal/sim/tern"
)

// unknown is a family whose rules are forgotten and learned again.
type unknown struct {
	name     string
	generate func(r *rand.Rand) []string
	build    func(lines []string) (box.Model, error)
}

var unknowns = []unknown{
	{"tern", func(r *rand.Rand) []string { return tern.Generate(r).Lines() }, func(l []string) (box.Model, error) { return tern.New("quay-r1", "TN-1", l, time.Unix(0, 0)) }},
	{"plover", plover.Generate, func(l []string) (box.Model, error) { return plover.New("quay-sw1", "PL-1", l, time.Unix(0, 0)) }},
	{"fulmar", fulmar.Generate, func(l []string) (box.Model, error) { return fulmar.New("strip1", "FU-1", l) }},
	{"curlew", func(r *rand.Rand) []string { return curlew.Generate(r).Lines() }, func(l []string) (box.Model, error) { return curlew.New("quay-c1", "02-5e", l) }},
}

// spare is a simulated unit that things are tried out at.
type spare struct {
	m   box.Model
	doc *dialect.Doc
}

func (s spare) tree() *grammar.Node {
	root, _ := s.doc.Tree(s.text())
	return root
}

func (s spare) text() string { return strings.Join(s.m.Status().Running, "\n") + "\n" }

func (s spare) Shows() ([]learn.Entry, error) { return learn.Flatten(s.tree()), nil }
func (s spare) Later() ([]learn.Entry, error) { return s.Shows() }

func (s spare) Types(lines []string) (int, string, error) {
	if err := s.m.Amend("learn", lines); err != nil {
		return len(lines) - 1, err.Error(), nil
	}
	return -1, "", nil
}

var rulesOf = regexp.MustCompile(`(?m)^rules:\n(?:(?:  .*|#.*)?\n)*`)

// learned is what came of learning a family anew.
type learned struct {
	draft                []learn.Rule
	yaml                 string
	dialect              *dialect.Dialect
	right, unsure, wrong int
	said                 []string // of the wrong: what they say
	typed                int
}

// learnAnew forgets a family's rules, and learns them from versions and a spare.
func learnAnew(f unknown, seed uint64, versions int) (out learned, err error) {
	src, err := dialects.Files.ReadFile(f.name + ".yaml")
	if err != nil {
		return out, err
	}
	known, err := dialect.Load(f.name+".yaml", src)
	if err != nil {
		return out, err
	}
	bare := rulesOf.ReplaceAll(src, nil)
	bare = regexp.MustCompile(`(?m)^fit:\n(?:  .*\n)*`).ReplaceAll(bare, nil)
	d, err := dialect.Load(f.name+".yaml", bare)
	if err != nil {
		return out, err
	}
	r := rand.New(rand.NewPCG(seed, 1))
	var roots []*grammar.Node
	var most spare
	for range versions {
		m, err := f.build(f.generate(r))
		if err != nil {
			return out, err
		}
		s := spare{m, d.Doc(d.Main())}
		if roots = append(roots, s.tree()); most.m == nil || len(s.text()) > len(most.text()) {
			most = s
		}
	}
	draft := learn.From(roots, d.Table.Words, d.Grammar.Denial)
	how := learn.How{Remove: d.Change.Remove, Leave: d.Change.Leave, Most: 20_000}
	before := most.text()
	if err := draft.Try(most, how, func(string) { out.typed++ }); err != nil {
		return out, fmt.Errorf("%s: %w", f.name, err)
	}
	if now := most.text(); now != before {
		return out, fmt.Errorf("%s: the spare is not as it was:\n%s\nand was\n%s", f.name, now, before)
	}
	out.draft = draft.Rules(how)
	out.yaml = learn.YAML(out.draft)
	if out.dialect, err = dialect.Load(f.name+".yaml", append(slices.Clone(bare), out.yaml...)); err != nil {
		return out, fmt.Errorf("%s: %w\n%s", f.name, err, out.yaml)
	}
	out.score(known, func() *grammar.Node {
		m, err := f.build(f.generate(r))
		if err != nil {
			return nil
		}
		return spare{m, known.Doc(known.Main())}.tree()
	})
	return out, nil
}

// learnModules forgets the rules of the family that shows its YANG module, and takes them
// from that.
func learnModules() (out learned, err error) {
	src, err := dialects.Files.ReadFile("gannet.yaml")
	if err != nil {
		return out, err
	}
	known, err := dialect.Load("gannet.yaml", src)
	if err != nil {
		return out, err
	}
	if out.draft, _, err = learn.Modules(map[string]string{"brindle-mast": gannet.Module}); err != nil {
		return out, err
	}
	out.yaml = learn.YAML(out.draft)
	if out.dialect, err = dialect.Load("gannet.yaml", append(rulesOf.ReplaceAll(src, nil), "\n"+out.yaml...)); err != nil {
		return out, fmt.Errorf("%w\n%s", err, out.yaml)
	}
	r := rand.New(rand.NewPCG(1, 1))
	doc := known.Doc("running")
	out.score(known, func() *grammar.Node {
		text, err := grammar.FormatXML([]byte(gannet.Generate(r, gannet.Users{"magpie": "w"})), "config")
		if err != nil {
			return nil
		}
		root, _ := doc.Tree(text)
		return root
	})
	return out, nil
}

// score holds a draft against what is known of the family: of each kind of lines it is
// right where it tells the same lines apart and changes them alike.
func (out *learned) score(known *dialect.Dialect, some func() *grammar.Node) {
	wrong := map[string]string{}
	// What one tells apart the other has to tell apart.
	there, back := map[string]string{}, map[string]string{}
	for range 60 {
		root := some()
		if root == nil {
			continue
		}
		var walk func(a, b *rules.Item)
		walk = func(a, b *rules.Item) {
			for _, x := range a.Kids {
				i := slices.IndexFunc(b.Kids, func(y *rules.Item) bool { return x.Line == y.Line })
				if i < 0 {
					continue
				}
				y := b.Kids[i]
				if x.Rule != nil && y.Rule != nil {
					why := differently(x, y)
					for _, way := range []struct {
						of       map[string]string
						one, two string
					}{{there, told(x), told(y)}, {back, told(y), told(x)}} {
						if was, seen := way.of[way.one]; seen && was != way.two {
							why = fmt.Sprintf("told apart by %q, and not by %q", x.ID, y.ID)
						}
						way.of[way.one] = way.two
					}
					if why != "" {
						wrong[y.Rule.Path] = fmt.Sprintf("%s: %s", x.Line, why)
					}
				}
				walk(x, y)
			}
		}
		walk(known.Table.Resolve(root), out.dialect.Table.Resolve(root))
	}
	for _, r := range out.draft {
		switch why, is := wrong[r.Path]; {
		case len(r.Unsure) > 0:
			out.unsure++
		case is:
			out.wrong++
			out.said = append(out.said, r.Path+": "+why)
		default:
			out.right++
		}
	}
}

// told is what tells a line from all others.
func told(it *rules.Item) string {
	if it.Up == nil {
		return ""
	}
	return told(it.Up) + " / " + it.ID
}

// differently says in what two rules treat one line differently; empty: in nothing.
func differently(known, drafted *rules.Item) string {
	_, was := known.Order()
	_, is := drafted.Order()
	values := known.ID != known.Line
	switch {
	case was && !is && slices.ContainsFunc(known.Up.Kids, func(o *rules.Item) bool { return o != known && o.Rule == known.Rule }):
		return "its order matters"
	case values && known.Rule.Overwrites && !drafted.Rule.Overwrites && known.Rule.Permanent:
		return "it cannot be taken away before it is changed"
	case known.Rule.Volatile != drafted.Rule.Volatile && len(known.Kids) == 0 && known.Rule.Volatile:
		return "it changes by itself"
	}
	return ""
}

// pairs pushes one configuration over another, there and back, by what was drafted. It
// returns how many ended equal with nothing refused, how many did not and were said to be
// unsure, and the rest.
func (out learned) pairs(f unknown, n int, seed uint64) (equal, warned, failed int, first string) {
	r := rand.New(rand.NewPCG(seed, 2))
	unsure := map[string]bool{}
	for _, d := range out.draft {
		if len(d.Unsure) > 0 {
			unsure[d.Path] = true
		}
	}
	doc := out.dialect.Doc(out.dialect.Main())
	for range n {
		a, err := f.build(f.generate(r))
		if err != nil {
			continue
		}
		b, err := f.build(f.generate(r))
		if err != nil {
			continue
		}
		from, to := spare{a, doc}, spare{b, doc}
		plan := out.dialect.Language.Replace(out.dialect.Table.Resolve(from.tree()), out.dialect.Table.Resolve(to.tree()))
		var lines []string
		doubt := false
		for _, st := range plan.Steps {
			lines = append(lines, st.Lines...)
			doubt = doubt || st.Kind != change.Leave && (st.Item == nil || st.Item.Rule == nil || unsure[st.Item.Rule.Path])
		}
		err = a.Amend("push", lines)
		now := out.dialect.Table.Resolve(from.tree())
		switch {
		case err == nil && rules.Equivalent(now, out.dialect.Table.Resolve(to.tree())):
			equal++
		case doubt:
			warned++
		default:
			if failed++; first == "" {
				first = fmt.Sprintf("%v\n%s", err, strings.Join(lines, "\n"))
			}
		}
	}
	return equal, warned, failed, first
}

// learning prints how well rules are learned.
func learning(string) error {
	fmt.Println("Rules forgotten and learned again, from 12 versions and a spare unit; then 300 pushes of one random configuration over another.")
	fmt.Printf("%-8s %6s %6s %6s %8s   %6s %7s %6s\n", "family", "right", "unsure", "wrong", "messages", "verified", "unsure", "failed")
	for _, f := range unknowns {
		l, err := learnAnew(f, 1, 12)
		if err != nil {
			return err
		}
		equal, warned, failed, _ := l.pairs(f, 300, 1)
		fmt.Printf("%-8s %6d %6d %6d %8d   %6d %7d %6d\n", f.name, l.right, l.unsure, l.wrong, l.typed, equal, warned, failed)
	}
	l, err := learnModules()
	if err != nil {
		return err
	}
	fmt.Printf("%-8s %6d %6d %6d   of its YANG module; TestGannet makes the pushes\n", "gannet", l.right, l.unsure, l.wrong)
	fmt.Println("heron, skua and petrel show no YANG modules and take no typed lines: what is drafted of their versions is unsure throughout. Nothing in dunlin's file can be read.")
	return nil
}
