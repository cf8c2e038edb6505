package api

import (
	"bytes"
	"cmp"
	"context"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"magpie/client"
	"magpie/internal/core"
	"magpie/internal/core/ref"
	"magpie/internal/link"
	"magpie/internal/store"
	"maps"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"sync"

	"github.com/gin-gonic/gin"
	"go.yaml.in/yaml/v2"
	"golang.org/x/crypto/ssh"
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
	"disabled": func(n *client.NewDevice, v string) error { return either("disabled", v, &n.Disabled) },
	"spare":    func(n *client.NewDevice, v string) error { return either("spare", v, &n.Spare) },
	"port": func(n *client.NewDevice, v string) (err error) {
		if n.Port, err = strconv.Atoi(v); err != nil {
			err = fmt.Errorf("%q is no number", v)
		}
		return err
	},
}

// either reads a column that is yes or no; empty is no.
func either(column, v string, into **bool) error {
	is := v == "yes" || v == "true" || v == "1"
	if !is && v != "" && v != "no" && v != "false" && v != "0" {
		return fmt.Errorf("%s is yes or no, not %q", column, v)
	}
	*into = &is
	return nil
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
			if bare := strings.TrimPrefix(v, "'"); plainCell(bare) == v {
				v = bare
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
	{"spare", func(d client.Device) string { return map[bool]string{true: "yes"}[d.Spare] }},
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

// changesOf compares a row with the device of its name. What the row does not say, and
// logins, stay as they are.
func changesOf(d client.Device, n client.NewDevice) (edit client.NewDevice, all []client.FieldChange, err error) {
	differs := func(column, from, to string) bool {
		if from != to {
			all = append(all, client.FieldChange{Device: d.Name, Column: column, From: from, To: to})
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
	if n.Disabled != nil && differs("disabled", yesNo(d.Disabled), yesNo(*n.Disabled)) {
		edit.Disabled = n.Disabled
	}
	if n.Spare != nil && differs("spare", yesNo(d.Spare), yesNo(*n.Spare)) {
		edit.Spare = n.Spare
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

func yesNo(b bool) string {
	if b {
		return "yes"
	}
	return "no"
}

// exportDevices writes devices as a file that importDevices reads. Logins stay here.
func (s *Server) exportDevices(c *gin.Context) {
	as := cmp.Or(c.Query("as"), "csv")
	if as != "csv" && as != "yaml" {
		fail(c, wrong("as", fmt.Sprintf("%q is no form of a file", as), "it is csv or yaml"))
		return
	}
	devs, ok := s.picked(c, strings.Fields(cmp.Or(c.Query("selector"), "all")), false)
	if !ok {
		return
	}
	var all []client.Device
	for _, d := range devs {
		if d.Member == "" {
			all = append(all, s.wireDevice(d))
		}
	}
	head, rows, table := []string{}, []yaml.MapSlice{}, [][]string{}
	for _, x := range exported {
		head = append(head, x.name)
	}
	for _, d := range needsFirst(all) {
		var row yaml.MapSlice
		var cells []string
		for _, x := range exported {
			v := x.of(d)
			cells = append(cells, v)
			if v != "" {
				row = append(row, yaml.MapItem{Key: x.name, Value: v})
			}
		}
		for i := range cells { // a spreadsheet takes no note for a formula; readDevices takes the mark off
			cells[i] = plainCell(cells[i])
		}
		rows, table = append(rows, row), append(table, cells)
	}
	var out bytes.Buffer
	err := csv.NewWriter(&out).WriteAll(append([][]string{head}, table...))
	kind := "text/csv; charset=utf-8"
	if as == "yaml" {
		kind = "application/yaml"
		out.Reset()
		err = yaml.NewEncoder(&out).Encode(rows)
	}
	if err != nil {
		fail(c, problem(err))
		return
	}
	c.Header("Content-Disposition", `attachment; filename="devices.`+as+`"`)
	c.Data(http.StatusOK, kind, out.Bytes())
}

// importRow is a device on its way in.
type importRow struct {
	client.NewDevice
	row  int
	edit *client.NewDevice // what of it is otherwise, where it is there already
}

// importDevices registers many devices, and changes those that are there already: all of
// them, or none; or, if asked to skip what is wrong, all that are right.
func (s *Server) importDevices(c *gin.Context) {
	var in client.NewDevices
	if !readBody(c, &in) {
		return
	}
	out := client.Imported{Added: []client.Device{}, Changed: []client.Device{}, Changes: []client.FieldChange{}, Bad: []client.BadRow{}}
	rows, ok := s.importRows(c, in, &out)
	if !ok {
		return
	}
	ctx := c.Request.Context()
	if in.File != "" {
		known, err := s.Jobs.Store.As(actor(c)).Devices(ctx, ref.All())
		if err != nil {
			fail(c, problem(err))
			return
		}
		rows = s.compared(known, rows, &out)
	}
	rows = s.keyed(ctx, rows, in.AcceptKeys, &out)
	if err := s.importAll(ctx, actor(c), rows, in, &out); err != nil {
		fail(c, problem(err))
		return
	}
	slices.SortStableFunc(out.Bad, func(x, y client.BadRow) int { return x.Row - y.Row })
	c.JSON(http.StatusOK, out)
}

// importRows are the rows of a request, or of the file in it.
func (s *Server) importRows(c *gin.Context, in client.NewDevices, out *client.Imported) (rows []importRow, ok bool) {
	devices, lines := in.Devices, []int(nil)
	if in.File != "" {
		var err error
		switch in.As {
		case "", "csv":
			devices, lines, out.Bad, err = readDevices(strings.NewReader(in.File))
		case "yaml":
			devices, lines, out.Bad, err = readDevicesYAML(strings.NewReader(in.File))
		default:
			err = fmt.Errorf("%q is no form of a file; it is csv or yaml", in.As)
		}
		if err != nil {
			fail(c, wrong("file", err.Error(), ""))
			return nil, false
		}
		if out.Bad == nil {
			out.Bad = []client.BadRow{}
		}
	}
	if n := len(devices) + len(out.Bad); n == 0 || n > mostRows {
		fail(c, bad(fmt.Sprintf("there are %d devices", n), fmt.Sprintf("send 1 to %d at a time", mostRows)))
		return nil, false
	}
	for i, n := range devices {
		r := importRow{NewDevice: n, row: i + 1}
		if lines != nil {
			r.row = lines[i]
		}
		rows = append(rows, r)
	}
	return rows, true
}

// compared sets apart what the rows have otherwise of devices that are there.
func (s *Server) compared(known []core.Device, rows []importRow, out *client.Imported) (left []importRow) {
	by := map[string]core.Device{}
	for _, d := range known {
		by[d.Name] = d
	}
	for _, r := range rows {
		d, there := by[r.Name]
		if !there {
			left = append(left, r)
			continue
		}
		edit, all, err := changesOf(s.wireDevice(d), r.NewDevice)
		switch {
		case err != nil:
			out.Bad = append(out.Bad, client.BadRow{Row: r.row, Name: r.Name, Detail: err.Error()})
		case len(all) == 0:
			out.Same++
		default:
			r.edit = &edit
			left = append(left, r)
			out.Changes = append(out.Changes, all...)
		}
	}
	return left
}

// keyed looks at the host keys of new devices whose rows give a fingerprint, or, where that is
// accepted, none.
func (s *Server) keyed(ctx context.Context, rows []importRow, accept bool, out *client.Imported) (left []importRow) {
	faults := make([]*client.BadRow, len(rows))
	var all sync.WaitGroup
	places := make(chan struct{}, 32)
	for i := range rows {
		r := &rows[i]
		dia := s.Visits.Dialect(r.Dialect)
		if r.edit != nil || dia == nil {
			continue
		}
		way, ok := dia.Way(r.Transport)
		if !ok || !link.Shows(way.Transport) || r.HostKey != "" && !strings.HasPrefix(r.HostKey, "SHA256:") || r.HostKey == "" && !accept {
			continue
		}
		places <- struct{}{}
		all.Go(func() {
			defer func() { <-places }()
			t := link.Target{Transport: way.Transport, Address: unbracket(r.Address), Port: cmp.Or(r.Port, way.Port)}
			err := checkReach(t.Address, t.Port)
			key, print := "", ""
			if err == nil {
				key, print, err = link.Probe(ctx, t, dia.Connect)
			}
			switch {
			case err != nil:
				faults[i] = &client.BadRow{Row: r.row, Name: r.Name, Column: "address", Detail: problem(err).Detail}
			case r.HostKey != "" && r.HostKey != print:
				faults[i] = &client.BadRow{Row: r.row, Name: r.Name, Column: "host_key", Detail: "the device shows " + print}
			default:
				r.HostKey = key
			}
		})
	}
	all.Wait()
	for i, r := range rows {
		if f := faults[i]; f != nil {
			out.Bad = append(out.Bad, *f)
		} else {
			left = append(left, r)
		}
	}
	return left
}

// importAll adds and changes devices in one transaction, which is taken back where nothing is to
// be done: so all that is wrong is told at once.
func (s *Server) importAll(ctx context.Context, who core.Actor, rows []importRow, in client.NewDevices, out *client.Imported) error {
	wrongBefore := len(out.Bad)
	err := s.Jobs.Store.Tx(ctx, who, func(q *store.Q) error {
		out.Added, out.Changed, out.Bad = []client.Device{}, []client.Device{}, out.Bad[:wrongBefore]
		for _, r := range rows {
			d, err := s.importOne(ctx, q, r)
			if err == nil {
				if r.edit == nil {
					out.Added = append(out.Added, s.wireDevice(d))
				} else {
					out.Changed = append(out.Changed, s.wireDevice(d))
				}
				continue
			}
			p := problem(err)
			if p.Status >= 500 {
				return err
			}
			out.Bad = append(out.Bad, client.BadRow{Row: r.row, Name: r.Name, Column: p.Field, Detail: p.Detail, Next: p.Next})
		}
		if out.New = len(out.Added); in.Preview || len(out.Bad) > 0 && !in.SkipBad {
			return errTakenBack
		}
		return nil
	})
	if err == errTakenBack {
		out.Added, out.Changed = []client.Device{}, []client.Device{}
		return nil
	}
	return err
}

func (s *Server) importOne(ctx context.Context, q *store.Q, r importRow) (core.Device, error) {
	if r.edit == nil {
		return s.add(ctx, q, r.NewDevice)
	}
	d, err := q.Device(ctx, r.Name)
	if err == nil {
		d, err = q.LockDevice(ctx, d.ID, r.edit.Revision)
	}
	if err == nil {
		err = s.editOne(ctx, q, &d, *r.edit)
	}
	if err != nil {
		return d, err
	}
	return q.DeviceByID(ctx, d.ID)
}

// errTakenBack ends an import of which nothing is kept.
var errTakenBack = errors.New("nothing is kept of it")
