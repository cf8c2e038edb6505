package cli

import (
	"bytes"
	"context"
	"encoding/csv"
	"fmt"
	"io"
	"maps"
	"os"
	"slices"
	"strconv"
	"strings"

	"github.com/goccy/go-yaml"
	"github.com/urfave/cli/v3"
	"golang.org/x/crypto/ssh"

	"magpie/client"
)

// exported are the columns of a file of devices that goes out, in order. Logins stay.
var exported = []struct {
	name string
	of   func(d client.Device) string
}{
	{"name", func(d client.Device) string { return d.Name }},
	{"address", func(d client.Device) string { return d.Address }},
	{"port", func(d client.Device) string { return strconv.Itoa(d.Port) }},
	{"transport", func(d client.Device) string { return d.Transport }},
	{"dialect", func(d client.Device) string { return d.Dialect }},
	{"kind", func(d client.Device) string { return d.Kind }},
	{"site", func(d client.Device) string { return d.Site }},
	{"tags", func(d client.Device) string { return strings.Join(d.Tags, " ") }},
	{"note", func(d client.Device) string { return d.Note }},
	{"fields", func(d client.Device) string { return fieldsLine(d.Fields) }},
	{"disabled", func(d client.Device) string { return map[bool]string{true: "yes"}[d.Disabled] }},
	{"serial", func(d client.Device) string { return strings.Join(d.Serials, " ") }},
	{"parent", func(d client.Device) string { return d.Parent }},
	{"jump", func(d client.Device) string { return d.Jump }},
	{"credential", func(d client.Device) string { return d.Credential }},
	{"host_key", func(d client.Device) string { return d.HostKey }},
}

// needsFirst puts devices that others hang on, or go through, before those, so that a
// file of them can be read from its beginning.
func needsFirst(all []client.Device) (out []client.Device) {
	by := map[string]client.Device{}
	for _, d := range all {
		by[d.Name] = d
	}
	done := map[string]bool{}
	var put func(d client.Device)
	put = func(d client.Device) {
		if done[d.Name] {
			return
		}
		done[d.Name] = true
		for _, n := range []string{d.Parent, d.Jump} {
			if up, ok := by[n]; ok {
				put(up)
			}
		}
		out = append(out, d)
	}
	for _, d := range all {
		put(d)
	}
	return out
}

func (a *app) deviceExport(ctx context.Context, c *cli.Command, s *client.Client, sel []string) error {
	all, err := s.Devices(ctx, sel)
	if err != nil {
		return err
	}
	own := 0
	var rows []yaml.MapSlice
	var table [][]string
	for _, d := range needsFirst(slices.DeleteFunc(all, func(d client.Device) bool { return d.Member != "" })) {
		if d.Credential == "" {
			own++
		}
		var row yaml.MapSlice
		var cells []string
		for _, x := range exported {
			v := x.of(d)
			cells = append(cells, v)
			if v != "" {
				row = append(row, yaml.MapItem{Key: x.name, Value: v})
			}
		}
		rows, table = append(rows, row), append(table, cells)
	}
	if c.String("as") == "yaml" {
		raw, err := yaml.Marshal(rows)
		if err != nil {
			return err
		}
		a.s.printf("%s", raw)
	} else {
		var head []string
		for _, x := range exported {
			head = append(head, x.name)
		}
		w := csv.NewWriter(a.s.out)
		if err := w.WriteAll(append([][]string{head}, table...)); err != nil {
			return err
		}
	}
	if own > 0 {
		a.tell("%s a login of its own, which stays here; fill in user and password where the file is read\n", count(own, "device has", "devices have"))
	}
	return nil
}

// readYAML turns a YAML file of devices, a list of maps with the columns' names, into rows
// as a CSV file has them.
func readYAML(raw []byte) (head []string, rows [][]string, err error) {
	var all []map[string]any
	if err := yaml.Unmarshal(raw, &all); err != nil {
		return nil, nil, fmt.Errorf("it is no list of devices: %w", err)
	}
	for _, m := range all {
		for k := range m {
			if !slices.Contains(head, k) {
				head = append(head, k)
			}
		}
	}
	slices.Sort(head)
	for _, m := range all {
		row := make([]string, len(head))
		for i, k := range head {
			switch v := m[k].(type) {
			case nil:
			case []any:
				var words []string
				for _, w := range v {
					words = append(words, fmt.Sprint(w))
				}
				row[i] = strings.Join(words, " ")
			default:
				row[i] = fmt.Sprint(v)
			}
		}
		rows = append(rows, row)
	}
	return head, rows, nil
}

// change is what a file has otherwise of a device that is there.
type change struct {
	Device string `json:"device"`
	Column string `json:"column"`
	From   string `json:"from"`
	To     string `json:"to"`
}

// changesOf compares a row with the device of its name. What the row does not say, and
// logins, stay as they are.
func changesOf(d client.Device, n client.NewDevice) (edit client.NewDevice, all []change, err error) {
	differs := func(column, from, to string) bool {
		if from != to {
			all = append(all, change{d.Name, column, from, to})
		}
		return from != to
	}
	if n.Dialect != d.Dialect {
		return edit, nil, fmt.Errorf("it speaks %s here; a device's dialect does not change: remove it and add it anew", d.Dialect)
	}
	print := n.HostKey
	if key, _, _, _, err := ssh.ParseAuthorizedKey([]byte(n.HostKey)); err == nil {
		print = ssh.FingerprintSHA256(key)
	}
	if strings.HasPrefix(print, "SHA256:") && print != d.HostKey {
		return edit, nil, fmt.Errorf("another key is accepted for it here (%s); look at the key that it shows: magpie device trust %s", d.HostKey, d.Name)
	}
	if n.Address != "" && differs("address", d.Address, n.Address) {
		edit.Address = n.Address
	}
	if n.Port != 0 && differs("port", strconv.Itoa(d.Port), strconv.Itoa(n.Port)) {
		edit.Port = n.Port
	}
	if n.Kind != "" && differs("kind", d.Kind, n.Kind) {
		edit.Kind = n.Kind
	}
	if n.Transport != "" && differs("transport", d.Transport, n.Transport) {
		edit.Transport = n.Transport
	}
	if n.Credential != "" && differs("credential", d.Credential, n.Credential) {
		edit.Credential = n.Credential
	}
	for _, x := range []struct {
		column, from string
		to           *string
		into         **string
	}{{"site", d.Site, n.Site, &edit.Site}, {"note", d.Note, n.Note, &edit.Note}, {"parent", d.Parent, n.Parent, &edit.Parent}, {"jump", d.Jump, n.Jump, &edit.Jump}} {
		if x.to != nil && differs(x.column, x.from, *x.to) {
			*x.into = x.to
		}
	}
	for _, x := range []struct {
		column string
		from   []string
		to     *[]string
		into   **[]string
	}{{"tags", d.Tags, n.Tags, &edit.Tags}, {"serial", d.Serials, n.Serials, &edit.Serials}} {
		if x.to != nil && differs(x.column, sorted(x.from), sorted(*x.to)) {
			*x.into = x.to
		}
	}
	if n.Fields != nil && differs("fields", fieldsLine(d.Fields), fieldsLine(*n.Fields)) {
		edit.Fields = n.Fields
	}
	if n.Disabled != nil && differs("disabled", yes(d.Disabled), yes(*n.Disabled)) {
		edit.Disabled = n.Disabled
	}
	edit.Revision = d.Revision
	return edit, all, nil
}

// fieldsLine writes fields of one's own in one line, as NAME=VALUE with semicolons between.
func fieldsLine(fields map[string]string) string {
	var out []string
	for _, k := range slices.Sorted(maps.Keys(fields)) {
		out = append(out, k+"="+strings.ReplaceAll(fields[k], ";", ","))
	}
	return strings.Join(out, "; ")
}

func sorted(words []string) string { return strings.Join(slices.Sorted(slices.Values(words)), " ") }

// isYAML tells by a file's name whether it is YAML.
func isYAML(file string) bool {
	return strings.HasSuffix(file, ".yaml") || strings.HasSuffix(file, ".yml")
}

// rowsOf reads a file of devices, CSV or YAML.
func rowsOf(file string) (rows []client.NewDevice, lines []int, bad []client.BadRow, err error) {
	f, err := os.Open(file)
	if err != nil {
		return nil, nil, nil, err
	}
	defer f.Close()
	if !isYAML(file) {
		rows, lines, bad, err = readDevices(f)
	} else {
		rows, lines, bad, err = readDevicesYAML(f)
	}
	if err != nil {
		err = fmt.Errorf("%s: %w", file, err)
	}
	return rows, lines, bad, err
}

// readDevicesYAML reads a YAML file of devices; its entries are counted from 1.
func readDevicesYAML(r io.Reader) (rows []client.NewDevice, lines []int, bad []client.BadRow, err error) {
	raw, err := io.ReadAll(io.LimitReader(r, mostFile))
	if err != nil {
		return nil, nil, nil, err
	}
	head, cells, err := readYAML(raw)
	if err != nil {
		return nil, nil, nil, err
	}
	var as bytes.Buffer
	if err := csv.NewWriter(&as).WriteAll(append([][]string{head}, cells...)); err != nil {
		return nil, nil, nil, err
	}
	rows, lines, bad, err = readDevices(&as)
	for i := range lines {
		lines[i]--
	}
	for i := range bad {
		bad[i].Row--
	}
	return rows, lines, bad, err
}

// imported is what an import came to.
type imported struct {
	Added   []client.Device `json:"added"`
	Changed []client.Device `json:"changed"`
	Changes []change        `json:"changes"` // what the file has otherwise, of devices that were there
	Same    int             `json:"same"`    // devices that are as the file has them
	Bad     []client.BadRow `json:"bad"`
}

// part takes out of the rows those of devices that are there already, with what of them
// the file has otherwise.
func part(known []client.Device, rows []client.NewDevice, lines []int) (news []client.NewDevice, newLines []int, edits map[string]client.NewDevice, out imported) {
	by := map[string]client.Device{}
	for _, d := range known {
		by[d.Name] = d
	}
	edits = map[string]client.NewDevice{}
	out = imported{Added: []client.Device{}, Changed: []client.Device{}, Changes: []change{}, Bad: []client.BadRow{}}
	for i, n := range rows {
		d, there := by[n.Name]
		if !there {
			news, newLines = append(news, n), append(newLines, lines[i])
			continue
		}
		edit, all, err := changesOf(d, n)
		switch {
		case err != nil:
			out.Bad = append(out.Bad, client.BadRow{Row: lines[i], Name: n.Name, Detail: err.Error()})
		case len(all) == 0:
			out.Same++
		default:
			edits[d.Name] = edit
			out.Changes = append(out.Changes, all...)
		}
	}
	return news, newLines, edits, out
}
