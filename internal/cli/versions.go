package cli

import (
	"context"
	"fmt"
	"io"
	"os"
	"strconv"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"magpie/client"
	"magpie/internal/core/ref"
)

// reference prints a reference so that it means the same in the service's zone
// as in the reader's. A second reference may leave the device out: "@live".
func reference(raw, like string) (string, error) {
	if strings.HasPrefix(raw, "@") && like != "" {
		dev, _, _ := strings.Cut(like, "@")
		raw = dev + raw
	}
	r, err := ref.ParseVersion(raw, here())
	if err != nil {
		return "", err
	}
	return r.String(), nil
}

// distances shows how far each earlier version is from one, the newest if not said.
func (a *app) distances(ctx context.Context, c *cli.Command, s *client.Client, raw string) error {
	which, err := reference(raw, "")
	if err != nil {
		return err
	}
	all, err := s.Distances(ctx, which)
	if err != nil {
		return err
	}
	a.print(c, all, func() {
		if len(all) == 0 {
			a.s.printf("There is no version before it.\n")
			return
		}
		var rows [][]cell
		for _, d := range all {
			far := cell{fmt.Sprintf("+%d −%d", d.Gained, d.Lost), plain}
			if d.Same {
				far = cell{"the same", calm}
			}
			rows = append(rows, []cell{{d.Ref, strong}, {when(d.TakenAt), plain}, far, {d.Author, faint}, {d.Name, calm}})
		}
		a.s.table([]string{"version", "taken", "to " + which, "by", "name"}, rows)
	})
	return nil
}

func (a *app) versions() *cli.Command {
	looks := []cli.Flag{
		&cli.StringFlag{Name: "find", Category: "look for", Usage: "`WORDS` that all stand in the name, the note, the author, the serial number or the release"},
		&cli.StringFlag{Name: "name", Category: "look for", Usage: "a `PATTERN` of names, like before-*"},
		&cli.StringFlag{Name: "note", Category: "look for", Usage: "`TEXT` in the note"},
		&cli.StringFlag{Name: "by", Category: "look for", Usage: "`WHO` changed the device, or had it pulled"},
		&cli.StringFlag{Name: "reason", Category: "look for", Usage: "`WHY` it was pulled, like \"by hand\"; several separated by commas"},
		&cli.StringFlag{Name: "serial", Category: "look for", Usage: "the unit's serial `NUMBER`"},
		&cli.StringFlag{Name: "release", Category: "look for", Usage: "a `PATTERN` of the software that it ran"},
		&cli.StringFlag{Name: "part", Category: "look for", Usage: "the `PART`"},
		&cli.StringFlag{Name: "since", Category: "look for", Usage: "taken at this `TIME` or later, like yesterday or --since=-7d"},
		&cli.StringFlag{Name: "until", Category: "look for", Usage: "taken at this `TIME` or before"},
	}
	return a.do("versions", "DEVICE[/PART] | SELECTOR…", "list a part's versions, newest first; or look for versions of many devices", append([]cli.Flag{
		&cli.IntFlag{Name: "limit", Value: 50, Usage: "how many"},
		&cli.IntFlag{Name: "before", Usage: "only versions below this `NUMBER`", HideDefault: true},
		&cli.BoolFlag{Name: "to-now", Usage: "how many lines came and went from each to the newest"},
	}, looks...), 1, -1, func(ctx context.Context, c *cli.Command, s *client.Client, got []string) error {
		for _, f := range looks {
			if c.IsSet(f.Names()[0]) {
				return a.findVersions(ctx, c, s, got, looks)
			}
		}
		if len(got) > 1 || got[0] == "all" || strings.ContainsAny(got[0], "=*?") { // versions of many devices, the newest first
			return a.findVersions(ctx, c, s, got, looks)
		}
		if c.Bool("to-now") {
			return a.distances(ctx, c, s, got[0])
		}
		dev, part, _ := strings.Cut(got[0], "/")
		all, err := s.Versions(ctx, dev, part, c.Int("before"), c.Int("limit"))
		if err != nil {
			return err
		}
		a.print(c, all, func() {
			if len(all) == 0 {
				a.s.printf("No versions. Pull the device: magpie pull %s\n", dev)
				return
			}
			list(a.s, all, cells[client.Version]{
				"seen_until": func(v client.Version) cell {
					until := when(v.SeenUntil)
					if v.SeenUntil.Equal(v.TakenAt) {
						until = "once"
					}
					if !v.SeenOpen && v.Number == all[0].Number {
						until += ", not since"
					}
					return cell{until, plain}
				},
				"added": func(v client.Version) cell {
					if v.Number == 1 || v.Lines == 0 {
						return cell{}
					}
					return cell{fmt.Sprintf("+%d −%d", v.Added, v.Removed), plain}
				},
				"lines": func(v client.Version) cell {
					if v.Lines == 0 { // an opaque file
						return cell{fmt.Sprintf("%d bytes", v.Size), plain}
					}
					return cell{fmt.Sprint(v.Lines), plain}
				},
				"reason": func(v client.Version) cell { return cell{v.Reason, faint} },
				"name":   func(v client.Version) cell { return cell{v.Name, calm} },
				"pinned": func(v client.Version) cell { return cell{marks(v), calm} }})
			if last := all[len(all)-1]; last.Number > 1 {
				a.s.printf("%s\n", a.s.paint(faint, fmt.Sprintf("older ones: magpie versions %s --before %d", got[0], last.Number)))
			}
		})
		return nil
	})
}

// findVersions looks for versions by what is known of them.
func (a *app) findVersions(ctx context.Context, c *cli.Command, s *client.Client, sel []string, looks []cli.Flag) error {
	by := map[string]string{"limit": fmt.Sprint(c.Int("limit"))}
	for _, f := range looks {
		name := f.Names()[0]
		by[name] = c.String(name)
		if name == "since" || name == "until" {
			var err error
			if by[name], err = spanTime(c, name); err != nil {
				return err
			}
		}
	}
	if len(sel) == 1 {
		if dev, part, ok := strings.Cut(sel[0], "/"); ok {
			sel, by["part"] = []string{dev}, part
		}
	}
	page, err := s.FindVersions(ctx, sel, by)
	if err != nil {
		return err
	}
	a.print(c, page, func() {
		if len(page.Items) == 0 {
			a.s.printf("There is no such version.\n")
			return
		}
		list(a.s, page.Items, cells[client.Version]{
			"device": func(v client.Version) cell { return cell{v.Ref, strong} },
			"name":   func(v client.Version) cell { return cell{v.Name, calm} }}, "device", "taken_at", "author", "reason", "actor", "name", "note")
		if page.Next != "" {
			a.s.printf("and older ones: --limit\n")
		}
	})
	return nil
}

func marks(v client.Version) string {
	var m []string
	if v.Baseline {
		m = append(m, "baseline")
	}
	if v.Pinned {
		m = append(m, "pinned")
	}
	if v.Aside != "" {
		m = append(m, "aside: "+v.Aside)
	}
	return strings.Join(m, ", ")
}

func (a *app) show() *cli.Command {
	return a.do("show", "REF [TEXT]", "print a version's text; or, of its lines, which version brought each in", []cli.Flag{
		&cli.BoolFlag{Name: "annotate", Usage: "beside each line, or those with TEXT, the version that brought it in, when and by whom"},
		&cli.StringFlag{Name: "output", Aliases: []string{"o"}, Usage: "write to `FILE` instead, which must not exist yet; - is standard output, byte for byte"},
	}, 1, 2, func(ctx context.Context, c *cli.Command, s *client.Client, got []string) error {
		r, err := reference(got[0], "")
		switch {
		case err != nil:
			return err
		case c.Bool("annotate"):
			return a.annotated(ctx, c, s, r, strings.Join(got[1:], " "))
		case len(got) > 1:
			return fmt.Errorf("a text to look for goes with --annotate; to search many versions: magpie search")
		}
		t, err := s.Text(ctx, r)
		if err != nil {
			return err
		}
		if file := c.String("output"); file != "" {
			switch {
			case t.Opaque:
				return a.save(ctx, s, r, t.Ref, file)
			case file == "-": // as it is, to standard output
				_, err = io.WriteString(os.Stdout, t.Text)
				return err
			}
			if err := writeNew(file, t.Text); err != nil {
				return err
			}
			a.tell("%s was written to %s%s\n", t.Ref, file, masked(t.Masked))
			if !c.Bool("json") {
				return nil
			}
		}
		a.print(c, t, func() {
			if t.Opaque {
				a.s.printf("%s is an opaque file of %d bytes; nothing in it can be read here\nsave it: magpie show %[1]s --output FILE\n", t.Ref, t.Size)
			}
			a.s.text(t.Text)
			if t.Sure != "" {
				a.tell("%s\n", a.s.paint(faint, t.Sure))
			}
			if t.Masked && strings.Contains(t.Text, "‹secret ") {
				a.tell("%s\n", a.s.paint(faint, "secrets are masked"))
			}
		})
		return nil
	})
}

// save writes a file that is no text, however large.
func (a *app) save(ctx context.Context, s *client.Client, ref, said, file string) error {
	r, err := a.received(file, "fetching", func(w receiver) (string, error) { return file, s.DownloadTo(ctx, ref, w) })
	if err == nil && r.name != "-" {
		a.tell("%s was written to %s, %s\n", said, r.name, bytesOf(r.size))
	}
	return err
}

func masked(on bool) string {
	if on {
		return ", with its secrets masked: it cannot be put back"
	}
	return ""
}

func writeNew(file, text string) error {
	f, err := os.OpenFile(file, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return err
	}
	if _, err = f.WriteString(text); err != nil {
		f.Close()
		return err
	}
	return f.Close()
}

func (a *app) mark() *cli.Command {
	return a.do("mark", "REF", "name a version, note something with it, pin it, make it the baseline", []cli.Flag{
		&cli.StringFlag{Name: "name", Usage: "the version's `NAME`; empty takes it away"},
		&cli.StringFlag{Name: "note", Usage: "a `NOTE`; empty takes it away"},
		&cli.BoolFlag{Name: "pin", Usage: "protect it from retention (--pin=false: no longer)"},
		&cli.BoolFlag{Name: "baseline", Usage: "approve it: drift is judged against it (--baseline=false: no longer)"},
	}, 1, 1, func(ctx context.Context, c *cli.Command, s *client.Client, got []string) error {
		r, err := reference(got[0], "")
		if err != nil {
			return err
		}
		m := client.Mark{}
		for flag, into := range map[string]**string{"name": &m.Name, "note": &m.Note} {
			if c.IsSet(flag) {
				v := c.String(flag)
				*into = &v
			}
		}
		for flag, into := range map[string]**bool{"pin": &m.Pin, "baseline": &m.Baseline} {
			if c.IsSet(flag) {
				v := c.Bool(flag)
				*into = &v
			}
		}
		if m == (client.Mark{}) {
			return fmt.Errorf("say what to mark it with: --name, --note, --pin or --baseline")
		}
		v, err := s.SetMark(ctx, r, m)
		if err != nil {
			return err
		}
		a.print(c, v, func() {
			a.s.facts("version", a.s.paint(strong, v.Ref), "taken", when(v.TakenAt)+" "+zoneName(), "name", v.Name, "note", v.Note, "marks", marks(v))
		})
		return nil
	})
}

func (a *app) removeVersion() *cli.Command {
	return a.described(a.do("remove-version", "REF", "delete one version for good: a wrong import, a secret that should not be here", []cli.Flag{
		&cli.StringFlag{Name: "reason", Usage: "why it has to go, for the audit log: a `TEXT`", Required: true},
		&cli.BoolFlag{Name: "yes", Usage: "do not ask"},
	}, 1, 1, func(ctx context.Context, c *cli.Command, s *client.Client, got []string) error {
		r, err := reference(got[0], "")
		if err != nil {
			return err
		}
		if !c.Bool("yes") {
			typed, err := a.s.ask(ctx, fmt.Sprintf("Delete %s for good? Type it once more: ", got[0]))
			if err != nil {
				return fmt.Errorf("%w; give --yes", err)
			}
			if typed != got[0] {
				return fmt.Errorf("nothing was deleted")
			}
		}
		out, err := s.RemoveVersion(ctx, r, c.String("reason"))
		if err != nil {
			return err
		}
		a.print(c, out, func() {
			a.s.printf("%s was deleted. Its copies leave the targets; those that keep what is deleted here, Git targets and backups have it still.\n", out.Ref)
			if len(out.Same) > 0 {
				a.s.printf("The same text is kept as %s.\n", strings.Join(out.Same, ", "))
			}
		})
		return nil
	}), "What is named, pinned, a baseline, in a snapshot, the newest of its part or needed by a push is not deleted; the answer says what keeps it.")
}

// residuals shows lines that differ: + is there and should not be, − is missing.
func (a *app) residuals(rs []client.Difference) {
	block := "\x00"
	for _, r := range rs {
		if r.Block != block {
			block = r.Block
			if block != "" {
				a.s.printf("    %s\n", a.s.paint(faint, "in "+block))
			}
		}
		pad := "    "
		if block != "" {
			pad += "  "
		}
		rule := ""
		if r.Rule != "" {
			rule = a.s.paint(faint, "   rule "+r.Rule)
		}
		switch {
		case r.Order:
			a.s.printf("%s%s stands where %s should\n", pad, r.Have, r.Want)
		default:
			if r.Want != "" {
				a.s.printf("%s%s%s\n", pad, a.s.paint(removed, "− "+r.Want), rule)
			}
			if r.Have != "" {
				a.s.printf("%s%s%s\n", pad, a.s.paint(added, "+ "+r.Have), rule)
			}
		}
	}
}

// spanTime is what --since or --until says, as the API reads it.
func spanTime(c *cli.Command, name string) (string, error) {
	raw, read := c.String(name), ref.ParseTime
	if raw == "" {
		return "", nil
	}
	if name == "since" {
		read = ref.ParseSince
	}
	t, err := read(raw, here())
	if err != nil {
		return "", fmt.Errorf("--%s: %w", name, err)
	}
	return t.UTC().Format(time.RFC3339Nano), nil
}

// changes lists what changed on many devices.
func (a *app) changes() *cli.Command {
	return a.do("changes", "[SELECTOR…]", "what changed lately, on all devices or some, newest first", []cli.Flag{
		&cli.StringFlag{Name: "since", Usage: "a `TIME`, like 2026-11-20, yesterday or --since=-7d; a week ago if not said"},
		&cli.StringFlag{Name: "until", Usage: "a `TIME`; now if not said"},
		&cli.BoolFlag{Name: "together", Usage: "with the lines, and what hit several devices alike as one; of a day if --since is not said"},
		&cli.IntFlag{Name: "limit", Value: 50, Usage: "how many"},
	}, 0, -1, func(ctx context.Context, c *cli.Command, s *client.Client, sel []string) error {
		since, err := spanTime(c, "since")
		if err != nil {
			return err
		}
		until, err := spanTime(c, "until")
		if err != nil {
			return err
		}
		if c.Bool("together") {
			page, err := s.Together(ctx, sel, since, until)
			if err != nil {
				return err
			}
			a.print(c, page, func() { a.together(page) })
			if len(page.Items) == 0 {
				a.tell("nothing changed\n")
			}
			return nil
		}
		page, err := s.FindVersions(ctx, sel, map[string]string{"since": since, "until": until, "limit": strconv.Itoa(c.Int("limit"))})
		if err != nil {
			return err
		}
		a.print(c, page, func() {
			if len(page.Items) == 0 {
				a.s.printf("Nothing changed.\n")
				return
			}
			list(a.s, page.Items, cells[client.Version]{
				"device": func(v client.Version) cell { return cell{v.Device, strong} },
				"added":  func(v client.Version) cell { return cell{fmt.Sprintf("+%d −%d", v.Added, v.Removed), plain} }}, "taken_at", "device", "part", "number", "added", "author", "reason", "name")
			if page.Next != "" {
				a.s.printf("and older ones: --limit, or --since a later time\n")
			}
		})
		return nil
	})
}
