package api

import (
	"bytes"
	"cmp"
	"context"
	"encoding/csv"
	"errors"
	"fmt"
	"html/template"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"magpie/internal/core"
	"magpie/internal/core/ref"
	"magpie/internal/store"
	"magpie/internal/visit"
)

// sheetOf is what a worksheet has of one device.
type sheetOf struct {
	Device, Ref, Taken, Kind, Model, Release, Serial string
	Parts                                            []sheetPart
}

// sheetPart is what it has of one of its parts: the whole device, or a logical element of it.
type sheetPart struct {
	Part, Ref, Sum string
	Rows           []sheetRow
}

// Any tells whether there is anything to tick off.
func (x sheetOf) Any() bool {
	return slices.ContainsFunc(x.Parts, func(p sheetPart) bool { return len(p.Rows) > 0 })
}

type sheetRow struct{ What, Value, Line string }

// worksheet lists the key facts of the newest versions of devices and their elements, to be ticked off while they
// are set up on another platform by hand.
func (s *Server) worksheet(c *gin.Context) {
	as := c.DefaultQuery("as", "html")
	if as != "html" && as != "csv" {
		fail(c, wrong("as", fmt.Sprintf("%q is no form of a worksheet", as), "it is html or csv"))
		return
	}
	devices, ok := s.chosen(c, strings.Fields(c.Query("selector")))
	if !ok {
		return
	}
	var all []sheetOf
	for _, d := range visit.Enabled(devices) {
		x, err := s.sheetOfDevice(c.Request.Context(), actor(c), d)
		if err != nil {
			fail(c, problem(err))
			return
		}
		if len(x.Parts) > 0 {
			all = append(all, x)
		}
	}
	var out bytes.Buffer
	media, name := "text/html; charset=utf-8", "magpie_"+s.Clock().UTC().Format("20060102T150405Z")+"_worksheet."+as
	var err error
	if as == "csv" {
		media, err = "text/csv; charset=utf-8", sheetCSV(&out, all)
	} else {
		err = sheetPage.Execute(&out, map[string]any{"At": s.Clock().UTC().Format(time.DateOnly), "Sheets": all})
	}
	if err != nil {
		fail(c, problem(err))
		return
	}
	c.Header("Content-Disposition", `attachment; filename="`+name+`"`)
	c.Data(http.StatusOK, media, out.Bytes())
}

// sheetOfDevice reads the newest version of each part of a device that a person would set up: not what only keeps
// another, as startup does. Of one that was never pulled there is none.
func (s *Server) sheetOfDevice(ctx context.Context, a core.Actor, d core.Device) (x sheetOf, err error) {
	dia := s.Visits.DialectOf(d)
	if dia == nil {
		return x, nil
	}
	x = sheetOf{Device: d.Name, Kind: d.Kind, Model: d.Model, Release: d.Release, Serial: d.Serial}
	parts, err := s.Jobs.Store.As(a).Parts(ctx, d.ID)
	if err != nil {
		return x, err
	}
	main := dia.Main()
	slices.SortStableFunc(parts, func(a, b core.Part) int { return cmp.Compare(btoi(a.Name != main), btoi(b.Name != main)) })
	for _, p := range parts {
		if p.GoneAt != nil || p.Name != main && !strings.HasPrefix(p.Name, main+"+") {
			continue
		}
		side, err := s.Read.Resolve(ctx, a, ref.Version{Device: d.Name, Part: p.Name, Which: "latest"})
		if errors.Is(err, store.ErrNotFound) {
			continue // nothing was pulled of it yet
		}
		if err != nil && !errors.Is(err, store.ErrDamaged) {
			return x, err
		}
		at := sheetPart{Part: p.Name, Ref: side.Ref}
		if err != nil {
			at.Sum = "damaged"
			at.Rows = append(at.Rows, sheetRow{"damaged", "the newest version does not read back; pull it again: magpie pull " + d.Name, ""})
		}
		var sum []string
		for _, f := range s.Read.KeyFacts(side) {
			for i, v := range f.Values {
				at.Rows = append(at.Rows, sheetRow{f.Name, v, f.Lines[i]})
			}
			if n := len(f.Values); n > 0 {
				sum = append(sum, fmt.Sprintf("%s: %d", f.Name, n))
			}
		}
		at.Sum = cmp.Or(at.Sum, strings.Join(sum, ", "), "its dialect names no key facts")
		if x.Ref == "" {
			x.Ref, x.Taken = side.Ref, side.TakenAt.UTC().Format("2006-01-02 15:04 MST")
		}
		x.Parts = append(x.Parts, at)
	}
	return x, nil
}

func btoi(b bool) int {
	if b {
		return 1
	}
	return 0
}

// sheetCSV writes a summary of each part first, and then a row for each fact.
func sheetCSV(out *bytes.Buffer, all []sheetOf) error {
	w := csv.NewWriter(out)
	if err := w.Write([]string{"device", "version", "what", "value", "line", "done", "there"}); err != nil {
		return err
	}
	var rows [][]string
	for _, x := range all {
		for _, p := range x.Parts {
			if err := w.Write([]string{x.Device, p.Ref, "summary", plainCell(p.Sum), "", "", ""}); err != nil {
				return err
			}
			for _, r := range p.Rows {
				rows = append(rows, []string{x.Device, p.Ref, plainCell(r.What), plainCell(r.Value), plainCell(r.Line), "", ""})
			}
		}
	}
	if err := w.WriteAll(rows); err != nil {
		return err
	}
	w.Flush()
	return w.Error()
}

// plainCell keeps a spreadsheet from taking a value for a formula.
func plainCell(v string) string {
	if v != "" && strings.ContainsRune("=+-@\t\r\n", rune(v[0])) {
		return "'" + v
	}
	return v
}

var sheetPage = template.Must(template.New("worksheet").Parse(`<!DOCTYPE html>
<html lang="en"><head><meta charset="utf-8"><title>Worksheet</title><style>
body { font: 14px/1.45 Inter, system-ui, sans-serif; color: #1d2327; margin: 2rem auto; max-width: 60rem; padding: 0 1rem }
h1 { font-size: 1.3rem } h2 { font-size: 1.05rem; margin: 2rem 0 .2rem } h3 { font-size: 1rem; margin: 1.2rem 0 .2rem }
p { margin: .2rem 0 .6rem; color: #50575e }
table { border-collapse: collapse; width: 100% }
th, td { border-bottom: 1px solid #ccc; text-align: left; padding: .3rem .6rem .3rem 0; vertical-align: top }
td.value { font-family: ui-monospace, monospace; overflow-wrap: anywhere }
td.done { width: 3rem } td.done::before { content: "☐"; font-size: 1.2em } td.there { width: 25% }
@media print { h2 { break-after: avoid } tr { break-inside: avoid } body { margin: 0; max-width: none } }
</style></head><body>
<h1>Worksheet: what each device has to have on another platform</h1>
<p>The key facts of the newest versions, as they were kept on {{.At}}. Tick off what is done, and write down what it is called there.</p>
{{if .Sheets}}<table><thead><tr><th>Device</th><th>What it is</th><th>Version</th><th>What it has</th></tr></thead><tbody>
{{range .Sheets}}{{$d := .}}{{range $i, $p := .Parts}}<tr><td>{{if eq $i 0}}{{$d.Device}}{{end}}</td><td>{{if eq $i 0}}{{$d.Kind}}{{with $d.Model}}, {{.}}{{end}}{{else}}element{{end}}</td><td>{{.Ref}}</td><td>{{.Sum}}</td></tr>
{{end}}{{end}}</tbody></table>{{end}}
{{range .Sheets}}{{if .Any}}<h2>{{.Device}}</h2>
<p>{{.Ref}}, taken {{.Taken}}; {{.Kind}}{{with .Model}}, {{.}}{{end}}{{with .Release}}, release {{.}}{{end}}{{with .Serial}}, serial {{.}}{{end}}</p>
{{range $i, $p := .Parts}}{{if $i}}<h3>{{.Ref}}</h3>
{{end}}{{if .Rows}}<table><thead><tr><th>What</th><th>Value</th><th>Line</th><th>Done</th><th>There</th></tr></thead><tbody>
{{range .Rows}}<tr><td>{{.What}}</td><td class="value">{{.Value}}</td><td class="value">{{.Line}}</td><td class="done"></td><td class="there"></td></tr>
{{end}}</tbody></table>{{end}}
{{end}}{{end}}{{else}}<p>Nothing was pulled of these devices yet.</p>{{end}}
</body></html>
`))

// worksheetRoute is the operation by which key facts leave on a sheet.
func (s *Server) worksheetRoute() route {
	return route{"GET", "/worksheet", core.Reader, s.worksheet, about{id: "getWorksheet", tag: "versions", does: "The key facts of devices, to be ticked off while they are set up on another platform by hand", query: []param{{"selector", "string", true, "words like site=skerrinsay tag=core name=quay-*, separated by blanks"}, {"as", "string", false, "html or csv; html if not said"}}, mime: "text/html, text/csv", gives: ""}}
}
