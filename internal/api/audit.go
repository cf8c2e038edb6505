package api

import (
	"fmt"
	"magpie/client"
	"magpie/internal/store"
	"strconv"
	"strings"
	"time"

	"github.com/gin-gonic/gin"
)

func (s *Server) audit(c *gin.Context) {
	n, ok := limit(c, 100, 1000)
	if !ok {
		return
	}
	before, ok := cursor(c)
	if !ok {
		return
	}
	since, ok := s.instant(c, "since", time.Time{})
	if !ok {
		return
	}
	rows, err := s.Jobs.Store.As(actor(c)).Deeds(c.Request.Context(), store.DeedFilter{About: c.Query("about"), Actor: c.Query("actor"), Since: since}, before, n)
	next := ""
	if len(rows) == n && rows[n-1].Seq > 1 {
		next = strconv.FormatInt(rows[n-1].Seq, 10)
	}
	answer(c, 200, pageOf(rows, next, func(d store.AuditEntry) client.AuditEntry {
		return client.AuditEntry{Seq: d.Seq, At: d.At, Actor: d.Actor, Action: d.Action, Object: d.Object, Detail: d.Detail, MAC: d.MAC}
	}), err)
}

func (s *Server) checkAudit(c *gin.Context) {
	var kept store.AuditEnd
	if end := c.Query("end"); end != "" {
		n, mac, ok := strings.Cut(end, ":")
		seq, err := strconv.ParseInt(n, 10, 64)
		if !ok || err != nil || seq < 1 || mac == "" {
			fail(c, wrong("end", fmt.Sprintf("%q is no end of the log", end), "write a row's number and code as they were sent elsewhere, like 1204:9f3c…"))
			return
		}
		kept = store.AuditEnd{Seq: seq, MAC: mac}
	}
	rows, err := s.Jobs.Store.As(actor(c)).VerifyAudit(c.Request.Context(), kept)
	out := client.AuditCheck{Sound: err == nil, Rows: rows}
	if err != nil {
		out.Trouble = err.Error()
	}
	c.JSON(200, out)
}
