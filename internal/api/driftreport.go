package api

import (
	"bytes"
	"cmp"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"html/template"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"magpie/client"
	"magpie/internal/core"
	"magpie/internal/core/ref"
	"magpie/internal/wire"
)

// driftReport says how devices stand, what of it is known, and what changed on them in a span of time.
func (s *Server) driftReport(c *gin.Context) {
	as := c.DefaultQuery("as", "html")
	media, known := map[string]string{"html": "text/html; charset=utf-8", "csv": "text/csv; charset=utf-8", "json": "application/json"}[as]
	if !known {
		fail(c, wrong("as", fmt.Sprintf("%q is no form of a report", as), "it is html, csv or json"))
		return
	}
	words := strings.Fields(cmp.Or(c.Query("selector"), "all"))
	devices, ok := s.picked(c, words, false)
	if !ok {
		return
	}
	now := s.Clock()
	since, ok := s.instant(c, "since", now.AddDate(0, 0, -7))
	if !ok {
		return
	}
	until, ok := s.instant(c, "until", now)
	if !ok {
		return
	}
	who := core.Actor{ID: actor(c).ID, Name: actor(c).Name, Role: actor(c).Role} // a report is handed on
	r := client.DriftReport{At: now.UTC(), By: who.Name, Selector: words, Since: since.UTC(), Until: until.UTC(), Counts: map[string]int{}}
	if r.Items, ok = s.judged(c, who, devices, false, true); !ok {
		return
	}
	for i := range r.Items {
		r.Counts[standsAs(r.Items[i])]++
	}
	slices.SortStableFunc(r.Items, func(a, b client.Drift) int { return rank(a) - rank(b) })
	sel, err := ref.ParseSelector(words)
	if err != nil {
		fail(c, problem(err))
		return
	}
	changed, more, err := s.Read.Together(c.Request.Context(), who, sel, since, until, mostTogether)
	if err != nil {
		fail(c, problem(err))
		return
	}
	r.Changes, r.More = make([]client.Together, len(changed)), more
	for i, t := range changed {
		r.Changes[i] = wireTogether(t)
		r.Changes[i].Versions = wire.List(wireVersion, t.Versions)
	}
	var out bytes.Buffer
	switch as {
	case "csv":
		err = reportCSV(&out, r)
	case "json":
		err = json.NewEncoder(&out).Encode(r)
	default:
		err = reportPage.Execute(&out, r)
	}
	if err != nil {
		fail(c, problem(err))
		return
	}
	how := "attachment"
	if as == "html" {
		how = "inline"
	}
	c.Header("Content-Disposition", how+`; filename="magpie_`+now.UTC().Format("20060102T150405Z")+"_drift."+as+`"`)
	c.Header("Content-Security-Policy", "default-src 'none'; style-src 'unsafe-inline'")
	c.Data(http.StatusOK, media, out.Bytes())
}

// standsAs is the word for how a part stands.
func standsAs(d client.Drift) string {
	if d.Known != nil {
		return "acknowledged"
	}
	return d.State
}

// order of a report: what asks for something first.
var order = []string{core.Drifted, "not known", "acknowledged", core.InSync, "no baseline"}

func rank(d client.Drift) int { return slices.Index(order, standsAs(d)) }

func reportCSV(out *bytes.Buffer, r client.DriftReport) error {
	w := csv.NewWriter(out)
	stamp := func(t *time.Time) string {
		if t == nil {
			return ""
		}
		return t.UTC().Format(time.RFC3339)
	}
	rows := [][]string{{"device", "part", "state", "baseline", "running", "lines off", "since", "by", "acknowledged until", "acknowledged by", "reason", "in", "missing", "extra", "rule"}}
	for _, d := range r.Items {
		row := []string{d.Device, d.Part, standsAs(d), d.Baseline, d.Running, strconv.Itoa(len(d.Differences)), "", "", "", "", "", "", "", "", ""}
		if o := d.Since; o != nil {
			row[6], row[7] = stamp(&o.TakenAt), o.Author
		}
		if k := d.Known; k != nil {
			row[8], row[9], row[10] = stamp(&k.Until), k.By, k.Reason
		}
		for _, off := range d.Differences {
			row[11], row[12], row[13], row[14] = off.Block, off.Want, off.Have, off.Rule
			rows = append(rows, slices.Clone(row))
		}
		if len(d.Differences) == 0 {
			rows = append(rows, row)
		}
	}
	for _, row := range rows {
		for i := range row {
			row[i] = plainCell(row[i])
		}
	}
	if err := w.WriteAll(rows); err != nil {
		return err
	}
	return w.Error()
}

var reportPage = template.Must(template.New("drift").Funcs(template.FuncMap{
	"stamp":  func(t time.Time) string { return t.UTC().Format("2006-01-02 15:04 MST") },
	"stands": standsAs,
	"words": func(w []string) string {
		if w[0] == "all" {
			return "all devices"
		}
		return strings.Join(w, " ")
	},
	"off": func(d client.Drift) string {
		what, _ := d.Off()
		return what
	},
	"loud":  func(d client.Drift) bool { return rank(d) < slices.Index(order, core.InSync) },
	"order": func() []string { return order },
	"lines": func(n int) string { return core.Count(n, "line", "lines") },
	"alike": func(t client.Together) string {
		if t.Devices > 1 {
			return fmt.Sprintf("%d devices alike", t.Devices)
		}
		return t.Versions[0].Device
	},
}).Parse(`<!DOCTYPE html>
<html lang="en"><head><meta charset="utf-8"><title>Drift report</title><style>
body { font: 14px/1.45 Inter, system-ui, sans-serif; color: #1d2327; margin: 2rem auto; max-width: 62rem; padding: 0 1rem }
h1 { font-size: 1.35rem; margin-bottom: .2rem } h2 { font-size: 1.1rem; margin: 2rem 0 .4rem } h3 { font-size: 1rem; margin: 1.2rem 0 .1rem }
p { margin: .1rem 0 .5rem; color: #50575e }
table { border-collapse: collapse; width: 100% } th, td { border-bottom: 1px solid #ccc; text-align: left; padding: .25rem .8rem .25rem 0; vertical-align: top }
ul.counts { display: flex; gap: 1.6rem; list-style: none; padding: 0; margin: 1rem 0 } ul.counts b { font-size: 1.5rem; display: block; line-height: 1.1 }
pre { font: 12.5px/1.5 ui-monospace, monospace; border: 1px solid #ccc; margin: .2rem 0 .6rem; white-space: pre-wrap; overflow-wrap: anywhere }
pre span { display: block; padding: 0 .6rem } .in { background: #f3f1ea; color: #50575e } .want { background: #fbe9cf } .have { background: #d7efee }
.rule { font-family: Inter, system-ui, sans-serif; color: #50575e }
@media print { body { margin: 0; max-width: none } h2, h3 { break-after: avoid } pre, tr { break-inside: avoid } * { print-color-adjust: exact } }
</style></head><body>
<h1>Drift report</h1>
<p>Of {{words .Selector}}; judged {{stamp .At}} for {{.By}} by what was pulled last. Secrets are hidden.</p>
<ul class="counts">{{$c := .Counts}}{{range order}}{{if index $c .}}<li><b>{{index $c .}}</b>{{.}}</li>{{end}}{{end}}</ul>
<h2>What is off</h2>
{{range .Items}}{{if loud .}}<h3>{{.Device}}{{if ne .Part "running"}}/{{.Part}}{{end}}: {{stands .}}</h3>
<p>{{if .Trouble}}{{.Trouble}}{{else}}{{.Running}} is {{lines (len .Differences)}} off {{off .}}{{end}}{{with .Since}}; since {{stamp .TakenAt}}{{if .First}} or earlier{{end}}{{with .Author}}, by {{.}}{{end}}{{end}}{{with .Ignored}}; {{lines .}} ignored by rules{{end}}{{with .Unsure}}; {{lines .}} with secrets could not be wholly compared{{end}}.</p>
{{with .Known}}<p>Acknowledged by {{.By}} until {{stamp .Until}}: {{.Reason}}</p>
{{end}}{{if .Differences}}<pre>{{$in := ""}}{{range .Differences}}{{if ne .Block $in}}{{$in = .Block}}{{with .Block}}<span class="in">in {{.}}</span>{{end}}{{end}}{{if .Order}}<span>{{.Have}} stands where {{.Want}} should</span>{{else}}{{with .Want}}<span class="want">− {{.}}{{end}}{{if .Want}}{{with .Rule}} <i class="rule">rule {{.}}</i>{{end}}</span>{{end}}{{with .Have}}<span class="have">+ {{.}}{{end}}{{if .Have}}{{with .Rule}} <i class="rule">rule {{.}}</i>{{end}}</span>{{end}}{{end}}{{end}}</pre>{{end}}
{{end}}{{end}}
<h2>All that was judged</h2>
<table><thead><tr><th>Device</th><th>Part</th><th>State</th><th>Baseline</th><th>Runs</th></tr></thead><tbody>
{{range .Items}}<tr><td>{{.Device}}</td><td>{{.Part}}</td><td>{{stands .}}</td><td>{{.Baseline}}</td><td>{{.Running}}</td></tr>
{{end}}</tbody></table>
<h2>What changed from {{stamp .Since}} to {{stamp .Until}}</h2>
{{range .Changes}}<h3>{{alike .}}</h3>
<p>{{stamp .To}}{{range $i, $b := .By}}{{if $i}}, {{else}}; by {{end}}{{$b}}{{end}}; {{lines .Added}} came, {{lines .Removed}} went:{{range .Versions}} {{.Ref}}{{end}}</p>
{{if .Lines}}<pre>{{$in := ""}}{{range .Lines}}{{if ne .Path $in}}{{$in = .Path}}{{with .Path}}<span class="in">in {{.}}</span>{{end}}{{end}}<span class="{{if .Came}}have{{else}}want{{end}}">{{if .Came}}+{{else}}−{{end}} {{.Text}}</span>{{end}}</pre>{{end}}
{{else}}<p>Nothing, as far as devices were pulled.</p>{{end}}
{{if .More}}<p>And more: the span is too long to be listed whole.</p>{{end}}
</body></html>
`))
