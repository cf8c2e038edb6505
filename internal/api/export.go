package api

import (
	"cmp"
	"encoding/base64"
	"errors"
	"fmt"
	"log/slog"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"magpie/client"
	"magpie/internal/core"
	"magpie/internal/core/ref"
	"magpie/internal/history"
	"magpie/internal/wire"
)

// exportRoutes are the operations by which versions leave as files.
func (s *Server) exportRoutes() []route {
	return []route{
		s.worksheetRoute(),
		{"POST", "/imports", core.Admin, s.importVersions, about{id: "importVersions", tag: "versions", stream: mostImported, does: "Take files in that were made elsewhere", more: "Each becomes a version that is set aside, or is named as there already; whose it is and of when is looked for in its name and its beginning, where it is not said. A second time nothing is added.", takes: client.NewImport{}, gives: client.Page[client.TakenIn]{}}},
		{"POST", "/version-file", core.Admin, s.importFile, about{id: "importFile", tag: "versions", stream: mostLarge, does: "Take one file in as it comes, however large", more: "It becomes a version that is set aside, as at /imports. What has more than 16 MiB can be of a part that is no text only, and is kept in pieces.", query: []param{{"file", "string", true, "its name"}, {"device", "string", false, ""}, {"part", "string", false, ""}, {"taken_at", "string", false, "a time"}, {"name", "string", false, "a name for the version"}, {"note", "string", false, ""}}, as: "application/octet-stream", takes: "", gives: client.TakenIn{}}},
		{"POST", "/exports", core.Reader, s.export, about{id: "exportVersions", tag: "versions", does: "Take versions out as files", more: "One archive, with a manifest as its last file; without that it was cut off. For who may not see secrets, and where it is asked for, they are masked. Sealed, it is a file of age (age-encryption.org/v1).", takes: client.NewExport{}, mime: "application/octet-stream", gives: ""}},
	}
}

func (s *Server) export(c *gin.Context) {
	var in client.NewExport
	if !readBody(c, &in) {
		return
	}
	a := actor(c)
	x := history.Export{History: in.History, Plain: a.Secrets && !in.Masked, As: cmp.Or(in.As, history.TarZst), Recipients: in.Recipients, Passphrase: in.Passphrase}
	if _, err := x.Sound(); err != nil {
		fail(c, exportProblem(err))
		return
	}
	ctx, q := c.Request.Context(), s.Jobs.Store.As(a)
	what := strings.Join(in.Selector, " ")
	switch {
	case in.Snapshot != "" && (len(in.Selector) > 0 || in.History):
		fail(c, bad("a snapshot is named, and devices or their history besides", "give one of them"))
		return
	case in.Snapshot != "":
		snap, err := q.Snapshot(ctx, in.Snapshot)
		if err == nil {
			x.Versions, err = q.SnapshotVersions(ctx, snap.ID)
		}
		if err != nil {
			fail(c, problem(err))
			return
		}
		what = "snapshot " + snap.Name
	case len(in.Selector) == 1 && ref.Removed(in.Selector[0]):
		d, err := q.RemovedDevice(ctx, in.Selector[0])
		if err != nil {
			fail(c, problem(err))
			return
		}
		x.Devices = []core.Device{d.Device}
	default:
		devices, ok := s.chosen(c, in.Selector)
		if !ok {
			return
		}
		x.Devices = devices
	}
	how := map[bool]string{true: "with secrets", false: "masked"}[x.Plain]
	if len(in.Recipients)+len(in.Passphrase) > 0 {
		how += ", sealed"
	}
	if err := s.wrote(ctx, a, "exported", what, how); err != nil {
		fail(c, problem(err))
		return
	}
	name := "magpie_" + s.Clock().UTC().Format("20060102T150405Z") + "." + x.As
	if strings.HasSuffix(how, "sealed") {
		name += ".age"
	}
	leaves(c, name)
	if err := s.History.Write(ctx, a, x, c.Writer); err != nil {
		brokenOff(c, "an export", err, exportProblem)
	}
}

// leaves begins an answer that is a file, written as it comes.
func leaves(c *gin.Context, name string) {
	c.Header("Content-Disposition", `attachment; filename="`+name+`"`)
	c.Header("Content-Type", "application/octet-stream")
	_ = http.NewResponseController(c.Writer).SetWriteDeadline(time.Time{})
}

// brokenOff ends an answer that was begun and cannot be made good: whoever reads it sees that it
// was cut. Where nothing of it has left yet, it says why, in the words of said.
func brokenOff(c *gin.Context, what string, err error, said func(error) *client.Problem) {
	if !c.Writer.Written() {
		for _, head := range []string{"Content-Disposition", "Content-Type", "Content-Length", "ETag"} {
			c.Writer.Header().Del(head)
		}
		fail(c, said(err))
		return
	}
	slog.Error(what+" was broken off", "request", c.Writer.Header().Get("X-Request-Id"), "err", err)
	panic(http.ErrAbortHandler)
}

// importVersions takes files in as versions.
func (s *Server) importVersions(c *gin.Context) {
	var in client.NewImport
	if !readBody(c, &in) {
		return
	}
	zone := time.UTC
	if in.Zone != "" {
		var err error
		if zone, err = ref.Zone(in.Zone); err != nil {
			fail(c, wrong("zone", err.Error(), ""))
			return
		}
	}
	if in.DateOrder != "" && !slices.Contains(ref.DateOrders, in.DateOrder) {
		fail(c, wrong("date_order", fmt.Sprintf("%q is no order of a date's numbers", in.DateOrder), "one of "+strings.Join(ref.DateOrders, ", ")))
		return
	}
	if len(in.Files) == 0 || len(in.Files) > 1000 {
		fail(c, wrong("files", fmt.Sprintf("there are %d files", len(in.Files)), "send 1 to 1000 at a time"))
		return
	}
	var files []history.Incoming
	for _, f := range in.Files {
		raw, err := base64.StdEncoding.DecodeString(f.Content)
		if err != nil {
			fail(c, wrong("content", f.File+": what is sent of it is not base64 (RFC 4648 §4)", ""))
			return
		}
		files = append(files, history.Incoming{Name: f.File, Content: raw, Device: f.Device, Part: f.Part, TakenAt: f.TakenAt, Modified: f.Modified, Called: f.Name, Note: f.Note})
	}
	taken, err := s.History.Import(c.Request.Context(), actor(c), files, history.Dates{Zone: zone, Order: in.DateOrder}, in.Preview)
	out := client.Page[client.TakenIn]{Items: []client.TakenIn{}}
	for _, t := range taken {
		out.Items = append(out.Items, wiredTaken(t))
	}
	answer(c, 200, out, err)
}

// mostImported is how much is taken in at once: a text of the largest size, in base64, and what is
// said of it.
const mostImported = 24 << 20

// mostLarge is how large a file may be that is taken in.
const mostLarge = 8 << 30

// importFile takes one file in as it comes.
func (s *Server) importFile(c *gin.Context) {
	f := history.Incoming{Name: c.Query("file"), Device: c.Query("device"), Part: c.Query("part"), Called: c.Query("name"), Note: c.Query("note")}
	if c.Query("taken_at") != "" {
		at, ok := s.instant(c, "taken_at", time.Time{})
		if !ok {
			return
		}
		f.TakenAt = &at
	}
	t, err := s.History.ImportLarge(c.Request.Context(), actor(c), f, c.Request.Body, history.Dates{Zone: time.UTC})
	if err != nil {
		fail(c, spoolProblem(err))
		return
	}
	if t.Became == history.NotTaken {
		fail(c, bad(f.Name+": "+t.Why, ""))
		return
	}
	c.JSON(200, wiredTaken(t))
}

var wiredTaken = wire.Make[client.TakenIn, history.Taken]()

func exportProblem(err error) *client.Problem {
	if errors.Is(err, history.ErrExport) {
		return bad(err.Error(), "")
	}
	return problem(err)
}
