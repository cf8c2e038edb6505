package cli

import (
	"context"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"maps"
	"slices"
	"strconv"
	"strings"

	"github.com/urfave/cli/v3"

	"magpie/client"
)

// columns are what a file of devices may hold, and what each fills in.
var columns = map[string]func(n *client.NewDevice, v string) error{
	"name":              func(n *client.NewDevice, v string) error { n.Name = v; return nil },
	"address":           func(n *client.NewDevice, v string) error { n.Address = v; return nil },
	"dialect":           func(n *client.NewDevice, v string) error { n.Dialect = v; return nil },
	"kind":              func(n *client.NewDevice, v string) error { n.Kind = v; return nil },
	"user":              func(n *client.NewDevice, v string) error { n.User = v; return nil },
	"password":          func(n *client.NewDevice, v string) error { n.Password = v; return nil },
	"privileged_secret": func(n *client.NewDevice, v string) error { n.Privileged = v; return nil },
	"credential":        func(n *client.NewDevice, v string) error { n.Credential = v; return nil },
	"transport":         func(n *client.NewDevice, v string) error { n.Transport = v; return nil },
	"host_key":          func(n *client.NewDevice, v string) error { n.HostKey = v; return nil },
	"site":              func(n *client.NewDevice, v string) error { n.Site = &v; return nil },
	"parent":            func(n *client.NewDevice, v string) error { n.Parent = &v; return nil },
	"jump":              func(n *client.NewDevice, v string) error { n.Jump = &v; return nil },
	"tags":              func(n *client.NewDevice, v string) error { t := strings.Fields(v); n.Tags = &t; return nil },
	"serial":            func(n *client.NewDevice, v string) error { t := strings.Fields(v); n.Serials = &t; return nil },
	"note":              func(n *client.NewDevice, v string) error { n.Note = &v; return nil },
	"fields": func(n *client.NewDevice, v string) error {
		m := map[string]string{}
		for _, p := range strings.Split(v, ";") {
			if k, x, _ := strings.Cut(strings.TrimSpace(p), "="); k != "" {
				m[k] = x
			}
		}
		n.Fields = &m
		return nil
	},
	"disabled": func(n *client.NewDevice, v string) error {
		is := v == "yes" || v == "true" || v == "1"
		if !is && v != "" && v != "no" && v != "false" && v != "0" {
			return fmt.Errorf("disabled is yes or no, not %q", v)
		}
		n.Disabled = &is
		return nil
	},
	"port": func(n *client.NewDevice, v string) (err error) {
		if n.Port, err = strconv.Atoi(v); err != nil {
			err = fmt.Errorf("%q is no number", v)
		}
		return err
	},
}

// otherColumns are the columns that a file may lack.
func otherColumns() []string {
	var out []string
	for name := range columns {
		if name != "name" && name != "address" && name != "dialect" {
			out = append(out, name)
		}
	}
	slices.Sort(out)
	return out
}

// The bounds of a file of devices.
const (
	mostFile = 16 << 20 // bytes
	mostRows = 5000
)

// readDevices reads a file of devices. Rows are counted as a spreadsheet shows
// them: the first is the one with the columns' names.
func readDevices(r io.Reader) (rows []client.NewDevice, lines []int, bad []client.BadRow, err error) {
	in := csv.NewReader(io.LimitReader(r, mostFile))
	in.TrimLeadingSpace, in.Comment = true, '#'
	head, err := in.Read()
	if err != nil {
		return nil, nil, nil, fmt.Errorf("the file has no first row with the columns' names: %w", err)
	}
	var known []string
	for name := range columns {
		known = append(known, name)
	}
	slices.Sort(known)
	for i, h := range head {
		head[i] = strings.ToLower(strings.TrimSpace(strings.TrimPrefix(h, "\ufeff")))
		if columns[head[i]] == nil {
			return nil, nil, nil, fmt.Errorf("row 1: no column is named %q; there are %s", h, strings.Join(known, ", "))
		}
	}
	for _, must := range []string{"name", "address", "dialect"} {
		if !slices.Contains(head, must) {
			return nil, nil, nil, fmt.Errorf("row 1: the column %s is missing", must)
		}
	}
	for {
		rec, err := in.Read()
		if err == io.EOF {
			return rows, lines, bad, nil
		}
		if len(rows)+len(bad) >= mostRows {
			return nil, nil, nil, fmt.Errorf("the file has more than %d rows; import it in pieces", mostRows)
		}
		if err != nil {
			var p *csv.ParseError
			if !errors.As(err, &p) {
				return nil, nil, nil, err
			}
			bad = append(bad, client.BadRow{Row: p.Line, Detail: p.Err.Error()})
			continue
		}
		line, _ := in.FieldPos(0)
		var n client.NewDevice
		sound := true
		for i, v := range rec {
			if v = strings.TrimSpace(v); v == "" {
				continue
			}
			if err := columns[head[i]](&n, v); err != nil {
				bad, sound = append(bad, client.BadRow{Row: line, Name: n.Name, Column: head[i], Detail: err.Error()}), false
			}
		}
		if sound {
			rows, lines = append(rows, n), append(lines, line)
		}
	}
}

func (a *app) deviceImport(ctx context.Context, c *cli.Command, s *client.Client, got []string) error {
	rows, lines, bad, err := rowsOf(got[0])
	if err != nil {
		return err
	}
	known, err := s.Devices(ctx, nil)
	if err != nil {
		return err
	}
	rows, lines, edits, out := part(known, rows, lines)
	out.Bad = append(out.Bad, bad...)
	look := c.Bool("preview")
	if !look {
		rows, lines, out.Bad = a.importKeys(ctx, c, s, rows, lines, out.Bad)
	}
	if all := len(out.Bad) == 0 || c.Bool("skip-bad"); all && !look {
		if len(rows) > 0 {
			added, err := s.Import(ctx, client.NewDevices{Devices: rows, SkipBad: c.Bool("skip-bad")})
			if err != nil {
				return err
			}
			out.Added = added.Added
			for _, b := range added.Bad {
				b.Row = lines[b.Row-1]
				out.Bad = append(out.Bad, b)
			}
		}
		if len(out.Bad) == 0 || c.Bool("skip-bad") {
			for _, name := range slices.Sorted(maps.Keys(edits)) {
				d, err := s.EditDevice(ctx, name, edits[name])
				if err != nil {
					out.Bad = append(out.Bad, client.BadRow{Name: name, Detail: firstOf(err)})
					continue
				}
				out.Changed = append(out.Changed, d)
			}
		}
	}
	slices.SortStableFunc(out.Bad, func(x, y client.BadRow) int { return x.Row - y.Row })
	a.print(c, out, func() { a.showImported(out, look, len(rows)) })
	if len(out.Bad) > 0 || look && len(rows)+len(edits) > 0 {
		return errDiffers
	}
	return nil
}

// showImported says what an import came to, or would.
func (a *app) showImported(out imported, look bool, news int) {
	keys := 0
	for i, b := range out.Bad {
		if b.Column == "host_key" && strings.Contains(b.Detail, "no host key is given") {
			keys++
			out.Bad[i].Next = "give it in the column host_key, or accept whatever the devices show now: --accept-keys"
		}
	}
	if len(out.Bad) > 0 {
		list(a.s, out.Bad, cells[client.BadRow]{
			"detail": func(b client.BadRow) cell { return cell{b.Detail, alarm} },
			"next":   func(b client.BadRow) cell { return cell{b.Next, faint} }})
	}
	if len(out.Changes) > 0 && (look || len(out.Changed) > 0) {
		var rows [][]cell
		for _, x := range out.Changes {
			rows = append(rows, []cell{{x.Device, strong}, {x.Column, plain}, {x.From, removed}, {x.To, added}})
		}
		a.s.table([]string{"device", "what", "is", map[bool]string{true: "would be", false: "was, and now is"}[look]}, rows)
	}
	edited := map[string]bool{}
	for _, x := range out.Changes {
		edited[x.Device] = true
	}
	switch done := len(out.Added) + len(out.Changed); {
	case look:
		a.s.printf("%s would be added, %d changed, %d are as the file has them. Nothing was done.\n", count(news, "device", "devices"), len(edited), out.Same)
	case done > 0 || len(out.Bad) == 0:
		a.s.printf("%s added", count(len(out.Added), "device was", "devices were"))
		if len(out.Changed)+out.Same > 0 {
			a.s.printf(", %d changed, %d are as the file has them", len(out.Changed), out.Same)
		}
		if len(out.Added) > 0 {
			a.s.printf(". Pull them for the first time: magpie pull %s\n", "state=never-pulled")
		} else {
			a.s.printf(".\n")
		}
	case keys == len(out.Bad):
		a.s.printf("Nothing was added. --accept-keys accepts the keys that the devices show now; compare a few with what the devices themselves say.\n")
	default:
		a.s.printf("Nothing was added. --skip-bad adds the rows that are right.\n")
	}
}

// importKeys gets host keys for the rows that give a fingerprint, or none.
func (a *app) importKeys(ctx context.Context, c *cli.Command, s *client.Client, rows []client.NewDevice, lines []int, bad []client.BadRow) (okRows []client.NewDevice, okLines []int, _ []client.BadRow) {
	dialects := map[string]client.Dialect{}
	for i, n := range rows {
		fault := func(column, format string, args ...any) {
			bad = append(bad, client.BadRow{Row: lines[i], Name: n.Name, Column: column, Detail: fmt.Sprintf(format, args...)})
		}
		d, ok := dialects[n.Dialect]
		if !ok {
			var err error
			if d, err = s.Dialect(ctx, n.Dialect); err != nil {
				fault("dialect", "%v", firstOf(err))
				continue
			}
			dialects[n.Dialect] = d
		}
		way, err := wayOf(d, n.Transport)
		if err != nil {
			fault("transport", "%v", err)
			continue
		}
		print := n.HostKey
		if way.ShowsKey && (print == "" && c.Bool("accept-keys") || strings.HasPrefix(print, "SHA256:")) {
			if n.Port == 0 {
				n.Port = way.Port
			}
			p, err := s.Probe(ctx, way.Transport, n.Address, n.Port)
			if err != nil {
				fault("address", "%v", firstOf(err))
				continue
			}
			if print != "" && p.Fingerprint != print {
				fault("host_key", "the device shows %s", p.Fingerprint)
				continue
			}
			n.HostKey = p.HostKey
		}
		okRows, okLines = append(okRows, n), append(okLines, lines[i])
	}
	return okRows, okLines, bad
}

func firstOf(err error) string {
	line, _, _ := strings.Cut(err.Error(), "\n")
	return line
}
