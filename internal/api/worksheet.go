package api

import (
	"bytes"
	"encoding/csv"
	"errors"
	"fmt"
	"html/template"
	"net/http"
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
	Rows                                             []sheetRow
}

type sheetRow struct{ What, Value string }

// worksheet lists the key facts of the newest versions of devices, to be ticked off while they
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
		dia := s.Visits.DialectOf(d)
		if dia == nil {
			continue
		}
		side, err := s.Read.Resolve(c.Request.Context(), actor(c), ref.Version{Device: d.Name, Part: dia.Main(), Which: "latest"})
		if errors.Is(err, store.ErrNotFound) {
			continue // nothing was pulled of it yet
		}
		if err != nil && !errors.Is(err, store.ErrDamaged) {
			fail(c, problem(err))
			return
		}
		x := sheetOf{Device: d.Name, Ref: side.Ref, Taken: side.TakenAt.UTC().Format("2006-01-02 15:04 MST"), Kind: d.Kind, Model: d.Model, Release: d.Release, Serial: d.Serial}
		if err != nil {
			x.Rows = append(x.Rows, sheetRow{"damaged", "the newest version does not read back; pull it again: magpie pull " + d.Name})
		}
		for _, l := range s.Read.KeyFacts(side) {
			for _, v := range l.Values {
				x.Rows = append(x.Rows, sheetRow{l.Name, v})
			}
		}
		all = append(all, x)
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

func sheetCSV(out *bytes.Buffer, all []sheetOf) error {
	w := csv.NewWriter(out)
	if err := w.Write([]string{"device", "version", "what", "value", "done", "there"}); err != nil {
		return err
	}
	for _, x := range all {
		for _, r := range x.Rows {
			if err := w.Write([]string{x.Device, x.Ref, r.What, plainCell(r.Value), "", ""}); err != nil {
				return err
			}
		}
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
h1 { font-size: 1.3rem } h2 { font-size: 1.05rem; margin: 2rem 0 .2rem }
p { margin: .2rem 0 .6rem; color: #50575e }
table { border-collapse: collapse; width: 100% }
th, td { border-bottom: 1px solid #ccc; text-align: left; padding: .3rem .6rem .3rem 0; vertical-align: top }
td.value { font-family: ui-monospace, monospace; overflow-wrap: anywhere }
td.done { width: 3rem } td.done::before { content: "☐"; font-size: 1.2em } td.there { width: 35% }
@media print { h2 { break-after: avoid } tr { break-inside: avoid } body { margin: 0; max-width: none } }
</style></head><body>
<h1>Worksheet: what each device has to have on another platform</h1>
<p>The key facts of the newest versions, as they were kept on {{.At}}. Tick off what is done, and write down what it is called there.</p>
{{range .Sheets}}<h2>{{.Device}}</h2>
<p>{{.Ref}}, taken {{.Taken}}; {{.Kind}}{{with .Model}}, {{.}}{{end}}{{with .Release}}, release {{.}}{{end}}{{with .Serial}}, serial {{.}}{{end}}</p>
{{if .Rows}}<table><thead><tr><th>What</th><th>Value</th><th>Done</th><th>There</th></tr></thead><tbody>
{{range .Rows}}<tr><td>{{.What}}</td><td class="value">{{.Value}}</td><td class="done"></td><td class="there"></td></tr>
{{end}}</tbody></table>{{else}}<p>Its dialect names no key facts.</p>{{end}}
{{else}}<p>Nothing was pulled of these devices yet.</p>{{end}}
</body></html>
`))

// worksheetRoute is the operation by which key facts leave on a sheet.
func (s *Server) worksheetRoute() route {
	return route{"GET", "/worksheet", core.Reader, s.worksheet, about{id: "getWorksheet", tag: "versions", does: "The key facts of devices, to be ticked off while they are set up on another platform by hand", query: []param{{"selector", "string", true, "words like site=skerrinsay tag=core name=quay-*, separated by blanks"}, {"as", "string", false, "html or csv; html if not said"}}, mime: "text/html, text/csv", gives: ""}}
}
