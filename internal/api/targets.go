package api

import (
	"errors"
	"fmt"
	"net/http"
	"strings"

	"github.com/gin-gonic/gin"

	"magpie/client"
	"magpie/internal/core"
	"magpie/internal/core/retain"
	"magpie/internal/history"
	"magpie/internal/history/place"
	"magpie/internal/store"
	"magpie/internal/wire"
)

// targetRoutes are the operations of copies elsewhere, and of backups of the service.
func (s *Server) targetRoutes() []route {
	const reader, operator, admin = core.Reader, core.Operator, core.Admin
	return []route{
		{"GET", "/targets", reader, s.targets, about{id: "listTargets", tag: "targets", does: "List where copies of versions are kept", gives: client.Page[client.Target]{}}},
		{"GET", "/targets/:name", reader, s.target, about{id: "getTarget", tag: "targets", does: "One target", gives: client.Target{}}},
		{"POST", "/targets", admin, s.saveTarget, about{id: "addTarget", tag: "targets", does: "Have copies of all versions kept at another place", more: "It has to take a file first, unless it is said to be kept unreached. An SSH server's host key has to be accepted: without, the answer is 409 and says which is shown. Plain files hold secrets that anybody who reads the place can read: it takes the right to see secrets, and cannot be changed afterwards.", takes: client.NewTarget{}, status: 201, gives: client.Target{}}},
		{"PUT", "/targets/:name", admin, s.saveTarget, about{id: "editTarget", tag: "targets", does: "Put another target in the place of one", more: "Secrets that are left out stay as they are, as long as the place is the same.", takes: client.NewTarget{}, gives: client.Target{}}},
		{"DELETE", "/targets/:name", admin, s.removeTarget, about{id: "removeTarget", tag: "targets", does: "Forget a target; what is there stays there", status: 204}},
		{"POST", "/targets/:name/retry", operator, s.retryTarget, about{id: "retryTarget", tag: "targets", does: "Have a target tried now", takes: client.AgainCopy{}, gives: client.Target{}}},
		{"GET", "/copies", reader, s.copies, about{id: "listCopies", tag: "targets", does: "Where copies of a version are", query: []param{{"ref", "string", true, "a version reference"}}, gives: client.Page[client.CopyOf]{}}},
		{"GET", "/backups", admin, s.backups, about{id: "listBackups", tag: "targets", does: "List the backups of the service, newest first", more: "Ask for one at /jobs, of kind backup, with to: a target's name, history: yes or no, keep: how many stay; have one proved with kind backup-test.", gives: client.Page[client.Backup]{}}},
		{"POST", "/backup-file", admin, s.backupFile, about{id: "writeBackup", tag: "targets", does: "Write the whole service out as one sealed file", more: "It opens with the master key's age identity, and for those that are named. A file that was cut off is refused when it is restored.", takes: client.NewBackup{}, mime: "application/octet-stream", gives: ""}},
	}
}

var wiredTarget = wire.Make[client.Target, store.Target]("State", "There", "Waiting", "LeftOut", "Bytes", "FullIn", "Recipients", "Files")

func wireTarget(t store.Target, at store.Standing, growth int64) client.Target {
	out := wiredTarget(t)
	out.State, out.There, out.Waiting, out.LeftOut, out.Bytes = history.StateOf(t, at), at.There, at.Waiting, at.LeftOut, at.Bytes
	if out.Recipients = t.Recipients; out.Recipients == nil {
		out.Recipients = []string{}
	}
	out.Files = history.FilesOf(t)
	if t.Room != nil {
		out.FullIn = retain.FullIn(*t.Room, growth)
	}
	return out
}

// growth is by how many bytes a day what is kept has grown in the last month.
func (s *Server) growth(c *gin.Context) (int64, error) {
	sizes, err := s.Jobs.Store.As(actor(c)).Sizes(c.Request.Context(), s.Clock().AddDate(0, -1, 0))
	return retain.Growth(sizes), err
}

func (s *Server) targets(c *gin.Context) {
	ctx, q := c.Request.Context(), s.Jobs.Store.As(actor(c))
	all, err := q.Targets(ctx)
	at, err2 := q.Standings(ctx)
	growth, err3 := s.growth(c)
	list(c, all, errors.Join(err, err2, err3), func(t store.Target) string { return t.Name }, func(t store.Target) client.Target { return wireTarget(t, at[t.ID], growth) })
}

func (s *Server) target(c *gin.Context) { s.answerTarget(c, http.StatusOK, c.Param("name")) }

func (s *Server) answerTarget(c *gin.Context, status int, name string) {
	ctx, q := c.Request.Context(), s.Jobs.Store.As(actor(c))
	t, err := q.Target(ctx, name)
	if err != nil {
		fail(c, problem(err))
		return
	}
	at, err := q.Standings(ctx)
	growth, err2 := s.growth(c)
	answer(c, status, wireTarget(t, at[t.ID], growth), errors.Join(err, err2))
}

func (s *Server) saveTarget(c *gin.Context) {
	var in client.NewTarget
	if !readBody(c, &in) || !noted(c, "note", in.Note) {
		return
	}
	t := store.Target{Name: in.Name, Kind: in.Kind, Where: strings.TrimSpace(in.Where), Keep: in.Keep, Paused: in.Paused, Note: in.Note,
		Sealed: store.Sealed{User: in.User, Password: in.Password, Key: in.Key, HostKey: in.HostKey, CA: in.CA, Recipients: in.Recipients, Files: in.Files}}
	was := c.Param("name")
	if _, err := s.History.SaveTarget(c.Request.Context(), actor(c), was, t, in.Unreached); err != nil {
		fail(c, targetProblem(err))
		return
	}
	s.answerTarget(c, map[bool]int{true: http.StatusCreated, false: http.StatusOK}[was == ""], in.Name)
}

// targetProblem words what keeps a target from being kept.
func targetProblem(err error) *client.Problem {
	var key *place.HostKeyError
	switch {
	case errors.As(err, &key):
		return &client.Problem{Status: http.StatusConflict, Title: "the host key is not accepted", Detail: key.Error(), Next: "if that is the server's key, say so with host_key (--host-key " + key.Shown + ")"}
	case errors.Is(err, history.ErrNotReached):
		return &client.Problem{Status: http.StatusBadGateway, Title: "the target was not reached", Detail: strings.TrimPrefix(err.Error(), history.ErrNotReached.Error()+": "), Next: "put that right, or keep it unreached all the same: its copies wait until it answers"}
	case errors.Is(err, history.ErrPlain):
		return &client.Problem{Status: http.StatusForbidden, Title: "not allowed", Detail: err.Error(), Next: "keep masked files there (files: masked), or ask an admin for the right: magpie user edit NAME --secrets"}
	case errors.Is(err, store.ErrShut):
		return &client.Problem{Status: http.StatusConflict, Title: "the target does not open", Detail: err.Error()}
	case errors.Is(err, history.ErrTarget):
		return bad(strings.TrimPrefix(err.Error(), history.ErrTarget.Error()+": "), "")
	}
	return problem(err)
}

func (s *Server) removeTarget(c *gin.Context) {
	gone(c, s.History.RemoveTarget(c.Request.Context(), actor(c), c.Param("name")))
}

func (s *Server) retryTarget(c *gin.Context) {
	var in client.AgainCopy
	if !readBody(c, &in) {
		return
	}
	if _, err := s.History.RetryTarget(c.Request.Context(), actor(c), c.Param("name"), in.Again); err != nil {
		fail(c, targetProblem(err))
		return
	}
	s.answerTarget(c, http.StatusOK, c.Param("name"))
}

func (s *Server) copies(c *gin.Context) {
	r, ok := s.reference(c, c.Query("ref"), "ref")
	if !ok {
		return
	}
	ctx, q := c.Request.Context(), s.Jobs.Store.As(actor(c))
	v, err := s.Visits.Version(ctx, actor(c), r)
	if err != nil {
		fail(c, problem(err))
		return
	}
	rows, err := q.CopiesOf(ctx, v.ID)
	targets, err2 := q.Targets(ctx)
	byID := map[string]store.Target{}
	for _, t := range targets {
		byID[t.ID] = t
	}
	list(c, rows, errors.Join(err, err2), func(x store.Copy) string { return byID[x.TargetID].Name }, func(x store.Copy) client.CopyOf {
		t := byID[x.TargetID]
		return client.CopyOf{Target: t.Name, Kind: t.Kind, State: x.State, Path: x.Path, Bytes: x.Bytes, At: x.At, Trouble: x.Trouble}
	})
}

var wiredBackup = wire.Make[client.Backup, store.BackupRow]()

func (s *Server) backups(c *gin.Context) {
	rows, err := s.Jobs.Store.As(actor(c)).AllBackups(c.Request.Context())
	list(c, rows, err, func(b store.BackupRow) string { return b.ID }, wiredBackup)
}

func (s *Server) backupFile(c *gin.Context) {
	var in client.NewBackup
	if !readBody(c, &in) {
		return
	}
	ctx, a := c.Request.Context(), actor(c)
	to, err := s.History.For(ctx, in.Recipients)
	if err != nil {
		fail(c, exportProblem(err))
		return
	}
	kind := map[bool]string{false: "whole", true: "settings"}[in.Settings]
	if err := s.wrote(ctx, a, "backup written out", kind, fmt.Sprintf("sealed to %s besides the service", core.Count(len(in.Recipients), "recipient", "recipients"))); err != nil {
		fail(c, problem(err))
		return
	}
	leaves(c, "magpie_"+s.Clock().UTC().Format("20060102T150405Z")+"_"+kind+".backup.age")
	if _, err := s.History.WriteBackup(ctx, a, !in.Settings, to, s.Version, c.Writer); err != nil {
		brokenOff(c, "a backup", err, problem)
	}
}
