package api

import (
	"cmp"
	"errors"
	"log/slog"
	"net/http"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"magpie/client"
	"magpie/internal/core"
	"magpie/internal/history"
)

// exportRoutes are the operations by which versions leave as files.
func (s *Server) exportRoutes() []route {
	return []route{
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
	c.Header("Content-Disposition", `attachment; filename="`+name+`"`)
	c.Header("Content-Type", "application/octet-stream")
	_ = http.NewResponseController(c.Writer).SetWriteDeadline(time.Time{})
	if err := s.History.Write(ctx, a, x, c.Writer); err != nil {
		if !c.Writer.Written() {
			c.Header("Content-Disposition", "")
			fail(c, exportProblem(err))
			return
		}
		slog.Error("an export was broken off", "request", c.Writer.Header().Get("X-Request-Id"), "err", err)
		panic(http.ErrAbortHandler) // whoever reads it sees that it was cut
	}
}

func exportProblem(err error) *client.Problem {
	if errors.Is(err, history.ErrExport) {
		return bad(err.Error(), "")
	}
	return problem(err)
}
