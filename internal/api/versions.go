package api

import (
	"cmp"
	"fmt"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"magpie/client"
	"magpie/internal/core"
	"magpie/internal/core/diff"
	"magpie/internal/core/ref"
	"magpie/internal/core/rules"
	"magpie/internal/dialect"
	"magpie/internal/read"
	"magpie/internal/store"
	"magpie/internal/visit"
	"magpie/internal/wire"
)

var wiredVersion = wire.Make[client.Version, core.Listed]("Ref", "MoreNames")

func wireVersion(v core.Listed) client.Version {
	out := wiredVersion(v)
	if v.More != "" {
		out.MoreNames = strings.Split(v.More, "\n")
	}
	out.Ref = v.Device
	if v.Part != "running" {
		out.Ref += "/" + v.Part
	}
	out.Ref += "@" + strconv.Itoa(v.Number)
	return out
}

func (s *Server) versions(c *gin.Context) {
	n, ok := limit(c, 100, 1000)
	if !ok {
		return
	}
	part := c.Query("part")
	before, ok := cursor(c)
	if !ok {
		return
	}
	q := s.Jobs.Store.As(actor(c))
	d, err := q.AnyDevice(c.Request.Context(), c.Param("name"))
	if err != nil {
		fail(c, problem(err))
		return
	}
	part = s.Visits.PartOf(d, cmp.Or(part, "running"))
	if err := s.Visits.HasPart(c.Request.Context(), actor(c), d, part); err != nil {
		fail(c, problem(err))
		return
	}
	rows, err := q.Versions(c.Request.Context(), d.ID, part, int(before), n)
	next := ""
	if len(rows) == n && rows[n-1].Number > 1 {
		next = strconv.Itoa(rows[n-1].Number)
	}
	answer(c, 200, pageOf(rows, next, wireVersion), err)
}

// changes lists what was taken in a span of time, of the whole fleet.
func (s *Server) changes(c *gin.Context) {
	sel, ok := s.selector(c, listedWords(c))
	if !ok {
		return
	}
	n, ok := limit(c, 100, 1000)
	if !ok {
		return
	}
	if c.Query("cursor") == "" && !sel.All() { // words that nobody answers to are a mistake
		if _, err := s.pick(c.Request.Context(), actor(c), sel, false); err != nil {
			fail(c, problem(err))
			return
		}
	}
	now := s.Clock()
	f := store.VersionFilter{Find: strings.Fields(c.Query("find")), Name: c.Query("name"), Note: c.Query("note"), By: c.Query("by"), Serial: c.Query("serial"), Release: c.Query("release"), Part: c.Query("part")}
	if raw := c.Query("reason"); raw != "" {
		f.Reasons = strings.Split(raw, ",")
		for _, r := range f.Reasons {
			if !slices.Contains(core.Reasons, r) {
				fail(c, wrong("reason", fmt.Sprintf("%q is no reason; there are %s", r, strings.Join(core.Reasons, ", ")), ref.Meant(r, core.Reasons)))
				return
			}
		}
	}
	otherwise := now.AddDate(0, 0, -7)
	until, ok := s.instant(c, "until", now)
	if !ok {
		return
	}
	if !f.Empty() || c.Query("until") != "" { // what is looked for may be of any age
		otherwise = time.Time{}.AddDate(1, 0, 0)
	}
	since, ok := s.instant(c, "since", otherwise)
	if !ok {
		return
	}
	rows, more, err := s.Jobs.Store.As(actor(c)).Changes(c.Request.Context(), sel, f, since, until, c.Query("cursor"), n)
	next := ""
	if more {
		next = rows[len(rows)-1].ID
	}
	answer(c, 200, pageOf(rows, next, wireVersion), err)
}

// instant reads a time of the query; one without a zone is UTC.
func (s *Server) instant(c *gin.Context, name string, otherwise time.Time) (time.Time, bool) {
	raw := c.Query(name)
	if raw == "" {
		return otherwise, true
	}
	read := ref.ParseTime
	if name == "since" || name == "from" {
		read = ref.ParseSince
	}
	t, err := read(raw, ref.In(time.UTC, s.Clock))
	if err != nil {
		fail(c, wrong(name, err.Error(), ""))
		return t, false
	}
	return t, true
}

// side resolves a reference. Looking at a device live takes an operator.
func (s *Server) side(c *gin.Context, raw, field string) (read.Side, bool) {
	r, ok := s.reference(c, raw, field)
	if !ok {
		return read.Side{}, false
	}
	if r.Which == "live" && !actor(c).May(core.Operator) {
		fail(c, &client.Problem{Status: 403, Title: "not allowed", Detail: "looking at a device live takes the role operator", Next: "compare with @latest instead"})
		return read.Side{}, false
	}
	if r.Which == "live" {
		if err := s.wrote(c.Request.Context(), actor(c), "looked at live", r.Device, r.String()); err != nil {
			fail(c, problem(err))
			return read.Side{}, false
		}
	}
	side, err := s.Read.Resolve(c.Request.Context(), actor(c), r)
	if err != nil {
		fail(c, problem(err))
		return side, false
	}
	return side, true
}

func (s *Server) version(c *gin.Context) {
	side, ok := s.side(c, c.Query("ref"), "ref")
	if !ok {
		return
	}
	a := looker(c)
	out := client.Text{Ref: side.Ref, Sure: side.Sure, TakenAt: side.TakenAt, Masked: !a.Secrets, Opaque: side.Opaque(), Size: side.Size(),
		KeyFacts: []client.KeyFact{}, Hides: s.Read.Hides(side)}
	var err error
	if !out.Opaque && !s.sawSide(c, side) {
		return
	}
	if !out.Opaque {
		out.Text, err = s.Read.Shown(a, side)
	}
	out.Blocks, out.Comments = s.Read.Outline(side)
	if out.Blocks == nil {
		out.Blocks = [][2]int{}
	}
	if out.Comments == nil {
		out.Comments = []int{}
	}
	for _, l := range s.Read.KeyFacts(side) {
		if len(l.Values) > 0 {
			out.KeyFacts = append(out.KeyFacts, client.KeyFact(l))
		}
	}
	if side.Version != nil {
		var v client.Version
		if err == nil {
			v, err = s.listed(c, *side.Version)
		}
		out.Version = &v
	}
	answer(c, 200, out, err)
}

// looker is who asks, seeing no more than they asked for.
func looker(c *gin.Context) core.Actor {
	a := actor(c)
	a.Secrets = a.Secrets && c.Query("masked") != "true"
	return a
}

// sawSide writes down that somebody is shown a text with its secrets, if it has
// any. Looking for them takes longer than reading, so that it is remembered for a
// while that a version was looked through.
func (s *Server) sawSide(c *gin.Context, side read.Side) bool {
	if !looker(c).Secrets || !s.newly(c, "secrets shown", side.Ref) {
		return true
	}
	harmless := side.Ref + " " + side.ReadBy()
	switch {
	case side.Version != nil && !s.newly(c, "nothing to hide", harmless):
		return true
	case s.Read.Hides(side):
		return s.saw(c, side.Ref, "the text as it is")
	}
	s.once(c, "nothing to hide", harmless)
	return true
}

// versionText answers with the text alone, under a name that sorts.
func (s *Server) versionText(c *gin.Context) {
	side, ok := s.side(c, c.Query("ref"), "ref")
	if !ok {
		return
	}
	if unchanged(c, side) || !s.sawSide(c, side) {
		return
	}
	if side.Large() && !actor(c).Secrets {
		fail(c, problem(visit.ErrCannotMask))
		return
	}
	shown, err := s.Read.Shown(actor(c), side)
	if err != nil {
		fail(c, problem(err))
		return
	}
	number := "live"
	if side.Version != nil {
		number = fmt.Sprintf("v%d", side.Version.Number)
	}
	if !actor(c).Secrets {
		number += "_masked"
	}
	media, ending := side.Media()
	name := ref.FileName(side.Device.Name, side.Part, side.TakenAt, number, ending)
	c.Header("Content-Disposition", `attachment; filename="`+name+`"`)
	if side.Large() {
		c.Header("Content-Type", media)
		c.Header("Content-Length", strconv.Itoa(side.Size()))
		_ = http.NewResponseController(c.Writer).SetWriteDeadline(time.Time{})
		if c.Request.Method == http.MethodHead {
			return
		}
		if err := s.Read.Write(c.Request.Context(), actor(c), side, c.Writer); err != nil {
			brokenOff(c, "the file of "+side.Ref, err, problem)
		}
		return
	}
	c.Header("Content-Length", strconv.Itoa(len(shown)))
	c.Data(http.StatusOK, media, []byte(shown))
}

// unchanged answers who has the text already: what a version holds never changes
// (RFC 9110 §13.1.2).
func unchanged(c *gin.Context, side read.Side) bool {
	if side.Version == nil {
		return false
	}
	tag := fmt.Sprintf(`"%s-%v"`, side.Version.ID, actor(c).Secrets)
	c.Header("ETag", tag)
	for _, has := range strings.Split(c.GetHeader("If-None-Match"), ",") {
		if has = strings.TrimPrefix(strings.TrimSpace(has), "W/"); has == tag || has == "*" {
			c.Status(http.StatusNotModified)
			return true
		}
	}
	return false
}

func (s *Server) mark(c *gin.Context) {
	r, ok := s.reference(c, c.Query("ref"), "ref")
	if !ok {
		return
	}
	var m client.Mark
	if !readBody(c, &m) {
		return
	}
	if m.Name != nil && strings.TrimSpace(*m.Name) != *m.Name {
		fail(c, bad("a name cannot begin or end with a blank", ""))
		return
	}
	if m.Note != nil && len([]rune(*m.Note)) > long {
		fail(c, bad(fmt.Sprintf("the note has more than %d characters", long), "shorten it"))
		return
	}
	if !s.withinNamed(c, r.Device) {
		return
	}
	v, err := s.Read.SetMark(c.Request.Context(), actor(c), r, read.Mark{Name: m.Name, Note: m.Note, Pin: m.Pin, Baseline: m.Baseline})
	if err != nil && strings.Contains(err.Error(), "cannot be a version's name") {
		err = bad(err.Error(), "")
	}
	s.answerVersion(c, 200, v, err)
}

// removeVersion deletes one version for good, for a reason. What protects a version from retention protects it
// here, too, and is told.
func (s *Server) removeVersion(c *gin.Context) {
	r, ok := s.reference(c, c.Query("ref"), "ref")
	if !ok {
		return
	}
	if r.Which != "number" && r.Which != "name" {
		fail(c, wrong("ref", r.String()+" may be another version tomorrow", "name the version by its number: magpie versions "+r.Device))
		return
	}
	why := strings.TrimSpace(c.Query("reason"))
	if why == "" {
		fail(c, wrong("reason", "there is no reason", "say why it has to go; the audit log keeps that"))
		return
	}
	ctx := c.Request.Context()
	out := client.RemovedVersion{Same: []string{}}
	err := s.Jobs.Store.Tx(ctx, actor(c), func(q *store.Q) error {
		d, err := q.AnyDevice(ctx, r.Device)
		if err != nil {
			return err
		}
		v, err := s.Visits.Find(ctx, q, d, r)
		if err != nil {
			return err
		}
		kept, err := q.KeptOf(ctx, d.ID)
		if err != nil {
			return err
		}
		for _, k := range kept {
			if next, ok := unprotect[k.Protected]; k.ID == v.ID && k.Protected != "" {
				if !ok {
					next = "wait until that has ended"
				}
				return &client.Problem{Status: 409, Title: "the version is needed", Detail: fmt.Sprintf("%s: %s", v.Ref(), k.Protected), Next: next}
			}
		}
		n, _, err := q.DeleteVersions(ctx, d.ID, []string{v.ID})
		if err == nil && n == 0 {
			err = fmt.Errorf("%s: %w", v.Ref(), store.ErrNotFound)
		}
		if err != nil {
			return err
		}
		same, err := q.SameText(ctx, v.ContentID, 20)
		if err != nil {
			return err
		}
		out = client.RemovedVersion{Ref: v.Ref(), Same: []string{}}
		for _, x := range same {
			out.Same = append(out.Same, x.Ref())
		}
		return q.Audit(ctx, "version deleted", v.Ref(), why)
	})
	answer(c, 200, out, err)
}

// unprotect says, for what keeps a version, how it no longer does.
var unprotect = map[string]string{
	"pinned":                               "take the pin away: magpie mark REF --pin=false",
	"named":                                "take its name away: magpie mark REF --name ''",
	"the baseline":                         "make another version the baseline: magpie mark REF --baseline",
	"in a snapshot":                        "remove the snapshot: magpie snapshot remove NAME",
	"the newest":                           "put something else on the device and pull it, so that another version is the newest",
	"what a push of late can be undone to": "wait until the push is two weeks old",
}

// answerVersion answers with a version and what is known of it besides.
func (s *Server) answerVersion(c *gin.Context, status int, v core.Version, err error) {
	var out client.Version
	if err == nil {
		out, err = s.listed(c, v)
	}
	answer(c, status, out, err)
}

func (s *Server) listed(c *gin.Context, v core.Version) (client.Version, error) {
	known, err := s.Jobs.Store.As(actor(c)).Listed(c.Request.Context(), v.ID)
	if err != nil {
		return client.Version{}, err
	}
	if len(known) == 0 {
		return client.Version{}, fmt.Errorf("%s: %w; it was deleted meanwhile", v.Ref(), store.ErrNotFound)
	}
	return wireVersion(known[0]), nil
}

// edit keeps a text made of a version as another version.
func (s *Server) edit(c *gin.Context) {
	var in client.NewVersion
	if !readBody(c, &in) {
		return
	}
	r, ok := s.reference(c, in.Ref, "ref")
	if !ok {
		return
	}
	if !noted(c, "note", in.Note) || !noted(c, "override", in.Override) {
		return
	}
	v, err := s.Read.Edit(c.Request.Context(), actor(c), r, in.Text, in.Note, in.Override)
	s.answerVersion(c, 201, v, err)
}

func (s *Server) diff(c *gin.Context) {
	lines := 3
	if raw := c.Query("context"); raw != "" {
		var err error
		if lines, err = strconv.Atoi(raw); err != nil || lines < 0 || lines > 1_000_000 {
			fail(c, bad(fmt.Sprintf("context is %q; it takes a number of lines", raw), ""))
			return
		}
	}
	from, ok := s.side(c, c.Query("from"), "from")
	if !ok {
		return
	}
	to, ok := s.side(c, c.Query("to"), "to")
	if !ok {
		return
	}
	if !from.Opaque() && !(s.sawSide(c, from) && s.sawSide(c, to)) {
		return
	}
	cmp, err := s.Read.Compare(c.Request.Context(), looker(c), from, to, lines, c.Query("all") == "true")
	answer(c, 200, WireDiff(cmp, !looker(c).Secrets), err)
}

func (s *Server) fileDiff(c *gin.Context) {
	var in client.NewFileDiff
	if !readBody(c, &in) {
		return
	}
	switch {
	case in.Context < 0 || in.Context > 1_000_000:
		fail(c, wrong("context", fmt.Sprintf("it is %d; it takes a number of lines", in.Context), ""))
		return
	case in.Name == "":
		fail(c, wrong("name", "the file has none", "say what to call it"))
		return
	case !looker(c).Secrets:
		fail(c, &client.Problem{Status: 403, Title: "not allowed", Detail: "by comparing texts of one's own with a version, its secrets could be guessed", Next: "ask somebody who may see secrets, or an admin for the right: magpie user edit NAME --secrets"})
		return
	}
	side, ok := s.side(c, in.Ref, "ref")
	if !ok || !side.Opaque() && !s.sawSide(c, side) {
		return
	}
	cmp, err := s.Read.CompareFile(c.Request.Context(), looker(c), side, read.File{Name: in.Name, Content: in.Text, At: in.WrittenAt}, in.FileFirst, in.Context, in.All)
	answer(c, 200, WireDiff(cmp, false), err)
}

var wireEntryChange = wire.Make[client.EntryChange, read.EntryChange]()

// WireDiff is a comparison as it goes over the wire.
// What stands for a rule of the dialect is the same word here and there, or this does not compile.
var _ = map[bool]bool{false: false, client.DialectRule == rules.DialectSays: true}

var wireLetGo = wire.Make[client.LetGo, rules.Gone]()

var wireHid = wire.Make[client.Hid, dialect.Hid]()

func WireDiff(cmp read.Comparison, masked bool) client.Diff {
	from, to := cmp.From, cmp.To
	out := client.Diff{Changes: wire.List(wireEntryChange, cmp.Changes), From: from.Ref, FromSure: from.Sure, To: to.Ref, ToSure: to.Sure, Relation: cmp.Relation, Added: cmp.Added, Removed: cmp.Removed, SetAside: cmp.SetAside, Ignored: cmp.Noise(), Hidden: wire.List(wireHid, cmp.By),
		Unsure: cmp.Unsure, LetGo: wireLetGo(cmp.LetGo), Masked: masked, Hunks: make([]client.Hunk, len(cmp.Hunks)), Unified: cmp.Unified}
	ops := map[diff.Op]string{diff.Same: "same", diff.Add: "add", diff.Remove: "remove"}
	for i, h := range cmp.Hunks {
		w := client.Hunk{From: h.A, FromLen: h.ALen, To: h.B, ToLen: h.BLen, Block: h.Block, Lines: make([]client.DiffLine, len(h.Lines))}
		for k, l := range h.Lines {
			w.Lines[k] = client.DiffLine{Op: ops[l.Op], Text: l.Text, From: l.A, To: l.B}
			for _, m := range l.Marks {
				w.Lines[k].Marks = append(w.Lines[k].Marks, [2]int{m.Start, m.End})
			}
		}
		out.Hunks[i] = w
	}
	return out
}
