package cli

import (
	"context"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"os"
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
	f, err := os.Open(got[0])
	if err != nil {
		return err
	}
	defer f.Close()
	rows, lines, bad, err := readDevices(f)
	if err != nil {
		return fmt.Errorf("%s: %w", got[0], err)
	}
	rows, lines, bad = a.importKeys(ctx, c, s, rows, lines, bad)
	out := client.Imported{Added: []client.Device{}}
	if len(bad) == 0 || c.Bool("skip-bad") && len(rows) > 0 {
		if out, err = s.Import(ctx, client.NewDevices{Devices: rows, SkipBad: c.Bool("skip-bad")}); err != nil {
			return err
		}
	}
	for _, b := range out.Bad {
		b.Row = lines[b.Row-1]
		bad = append(bad, b)
	}
	slices.SortStableFunc(bad, func(x, y client.BadRow) int { return x.Row - y.Row })
	out.Bad = bad
	a.print(c, out, func() {
		keys := 0
		for i, b := range bad {
			if b.Column == "host_key" && strings.Contains(b.Detail, "no host key is given") {
				keys++
				bad[i].Next = "give it in the column host_key, or accept whatever the devices show now: --accept-keys"
			}
		}
		if len(bad) > 0 {
			list(a.s, bad, cells[client.BadRow]{
				"detail": func(b client.BadRow) cell { return cell{b.Detail, alarm} },
				"next":   func(b client.BadRow) cell { return cell{b.Next, faint} }})
		}
		if len(out.Added) > 0 || len(bad) == 0 {
			a.s.printf("%s added. Pull them for the first time: magpie pull %s\n", count(len(out.Added), "device was", "devices were"), "state=never-pulled")
		} else if keys == len(bad) {
			a.s.printf("Nothing was added. --accept-keys accepts the keys that the devices show now; compare a few with what the devices themselves say.\n")
		} else {
			a.s.printf("Nothing was added. --skip-bad adds the rows that are right.\n")
		}
	})
	if len(bad) > 0 {
		return errDiffers
	}
	return nil
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
