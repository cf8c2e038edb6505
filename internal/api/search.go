package api

import (
	"net/http"
	"slices"
	"strconv"
	"time"

	"github.com/gin-gonic/gin"

	"magpie/client"
	"magpie/internal/core"
	"magpie/internal/core/ref"
	lines "magpie/internal/core/text"
	"magpie/internal/dialect"
	"magpie/internal/read"
	"magpie/internal/wire"
)

func (s *Server) searchRoutes() []route {
	const reader = core.Reader
	return []route{
		{"GET", "/search", reader, s.searched, about{id: "search", tag: "search", does: "Search what runs now", more: "Finds lines, or the blocks that lack one, in the newest versions of all parts that are text. Secrets are hidden, and are not found, if they are not asked for, which takes the right to see them and is written down.",
			query: []param{{"line", "string", false, "lines that have it"}, {"in", "string", false, "only in blocks whose own line begins with it"}, {"lacks", "string", false, "blocks of that name that have no line with it"}, {"regexp", "boolean", false, "these are expressions of RE2"},
				{"selector", "string", false, "of which devices; all if not said"}, {"part", "string", false, "of this part only"}, {"all_parts", "boolean", false, "also of parts that follow others, as startup follows running"}, {"secrets", "boolean", false, "with secrets"}, {"since", "boolean", false, "tell which version brought each line in"}, {"cursor", "string", false, "the end of the page before"}, {"limit", "integer", false, "at most so many, 50 when left out"}}, gives: client.SearchPage{}}},
		{"GET", "/history-search", reader, s.searchedHistory, about{id: "searchHistory", tag: "search", does: "Search all versions: since when a line is there, until when it was", more: "Reads versions one by one, for a few seconds at a time; a page may be empty, and has a next all the same. Secrets are hidden, and are not found, if they are not asked for, which takes the right to see them and is written down.",
			query: []param{{"line", "string", false, "lines that have it"}, {"in", "string", false, "only in blocks whose own line begins with it"}, {"lacks", "string", false, "blocks of that name that have no line with it"}, {"regexp", "boolean", false, "these are expressions of RE2"},
				{"selector", "string", false, "of which devices; all if not said"}, {"part", "string", false, "of this part only"}, {"all_parts", "boolean", false, "also of parts that follow others, as startup follows running"}, {"secrets", "boolean", false, "with secrets"}, {"cursor", "string", false, "where the page before ended"}, {"limit", "integer", false, "no further part once there are so many, 200 when left out"}}, gives: client.PastPage{}}},
		{"GET", "/distances", reader, s.distances, about{id: "listDistances", tag: "search", does: "How far each earlier version is from one", more: "Of the 200 before it.", query: []param{{"ref", "string", true, "a version reference"}}, gives: client.Page[client.Distance]{}}},
		{"GET", "/annotations", reader, s.origins, about{id: "getOrigins", tag: "search", does: "Which version brought each line of a version in", query: []param{{"ref", "string", true, "a version reference"}}, gives: client.Page[client.LineOrigin]{}}},
		{"GET", "/fleet-changes", reader, s.together, about{id: "listFleetChanges", tag: "search", does: "What changed in a span of time, what hit several devices alike as one", query: []param{{"selector", "string", false, "of which devices; all if not said"}, {"since", "string", false, "a time; a day ago if not said"}, {"until", "string", false, "a time; now if not said"}}, gives: client.TogetherPage{}}},
	}
}

var (
	wireOrigin   = wire.Make[client.Origin, read.Origin]()
	wireTogether = wire.Make[client.Together, read.Together]("Versions")
)

// sought reads what is to be looked for, so much of it by default.
func (s *Server) sought(c *gin.Context, usual int, in string) (r read.SearchRequest, ok bool) {
	sel := ref.All()
	if c.Query("selector") != "" {
		if sel, ok = s.selector(c, listedWords(c)); !ok {
			return r, false
		}
		if _, err := s.pick(c.Request.Context(), actor(c), sel, false); err != nil { // words that nobody answers to are a mistake
			fail(c, problem(err))
			return r, false
		}
	}
	n, ok := limit(c, usual, 500)
	if !ok {
		return r, false
	}
	secrets := c.Query("secrets") == "true"
	if secrets && !looker(c).Secrets {
		fail(c, &client.Problem{Status: 403, Title: "not allowed", Detail: "you may not see secrets, so they are not searched for you", Next: "search without them, or ask an admin for the right: magpie user edit NAME --secrets"})
		return r, false
	}
	if secrets && !s.saw(c, "search", in) {
		return r, false
	}
	return read.SearchRequest{Line: c.Query("line"), In: c.Query("in"), Lacks: c.Query("lacks"), Regexp: c.Query("regexp") == "true", Selector: sel,
		Part: c.Query("part"), AllParts: c.Query("all_parts") == "true", Secrets: secrets, Since: c.Query("since") == "true", After: c.Query("cursor"), Limit: n}, true
}

func (s *Server) searched(c *gin.Context) {
	in, ok := s.sought(c, 50, "lines of what runs now")
	if !ok {
		return
	}
	r, err := s.Read.Search(c.Request.Context(), looker(c), in)
	out := client.SearchPage{Items: make([]client.Found, len(r.Found)), Next: r.Next, Texts: r.Texts, Unread: r.Unread, Distinct: r.Distinct}
	for i, f := range r.Found {
		out.Items[i] = client.Found{Ref: f.Ref, Device: f.Device, Part: f.Part, TakenAt: f.TakenAt, Line: f.Line, Path: f.Path, Text: f.Text}
		if f.Origin != nil {
			o := wireOrigin(*f.Origin)
			out.Items[i].Origin = &o
		}
	}
	answer(c, http.StatusOK, out, err)
}

var wirePast = wire.Make[client.Past, read.Past]("From", "Gone")

func (s *Server) searchedHistory(c *gin.Context) {
	in, ok := s.sought(c, 200, "lines of all versions")
	if !ok {
		return
	}
	r, err := s.Read.History(c.Request.Context(), looker(c), in)
	out := client.PastPage{Items: make([]client.Past, len(r.Found)), Next: r.Next, Parts: r.Parts, Versions: r.Versions, Unread: r.Unread}
	for i, f := range r.Found {
		p := wirePast(f)
		if p.From = wireOrigin(f.From); f.Gone != nil {
			gone := wireOrigin(*f.Gone)
			p.Gone = &gone
		}
		out.Items[i] = p
	}
	answer(c, http.StatusOK, out, err)
}

func (s *Server) distances(c *gin.Context) {
	side, ok := s.side(c, c.Query("ref"), "ref")
	if !ok {
		return
	}
	all, _, err := s.Read.UpToNow(c.Request.Context(), actor(c), side)
	ids := make([]string, len(all))
	for i, a := range all {
		ids[i] = a.Version.ID
	}
	var known []core.Listed
	if err == nil {
		known, err = s.Jobs.Store.As(actor(c)).Listed(c.Request.Context(), ids...)
	}
	out := client.Page[client.Distance]{Items: make([]client.Distance, 0, len(all))}
	for _, v := range known { // one that was deleted meanwhile is left out
		a := all[slices.Index(ids, v.ID)]
		out.Items = append(out.Items, client.Distance{Version: wireVersion(v), Gained: a.Gained, Lost: a.Lost, Same: a.Equal})
	}
	answer(c, http.StatusOK, out, err)
}

func (s *Server) origins(c *gin.Context) {
	side, ok := s.side(c, c.Query("ref"), "ref")
	if !ok || !s.sawSide(c, side) {
		return
	}
	n, ok := limit(c, 2000, 10000)
	if !ok {
		return
	}
	from := 0
	if raw := c.Query("cursor"); raw != "" {
		var err error
		if from, err = strconv.Atoi(raw); err != nil || from < 0 {
			fail(c, wrong("cursor", "it is no cursor of this list", "leave it out to begin at the beginning"))
			return
		}
	}
	shown, err := s.Read.Shown(looker(c), side)
	if err != nil {
		fail(c, problem(err))
		return
	}
	origins, err := s.Read.Origins(c.Request.Context(), looker(c), side)
	if err != nil {
		fail(c, problem(err))
		return
	}
	all := lines.Lines(shown)
	places := dialect.Places(side.Doc(), shown, len(all))
	out := client.Page[client.LineOrigin]{Items: []client.LineOrigin{}}
	for i := from; i < len(all) && i < len(origins); i++ {
		if len(out.Items) == n {
			out.Next = strconv.Itoa(i)
			break
		}
		out.Items = append(out.Items, client.LineOrigin{Line: i + 1, Text: all[i], Path: places[i+1], Origin: wireOrigin(origins[i])})
	}
	c.JSON(http.StatusOK, out)
}

// mostTogether is how many versions are looked at for what changed together.
const mostTogether = 1000

func (s *Server) together(c *gin.Context) {
	sel := ref.All()
	ok := true
	if c.Query("selector") != "" {
		if sel, ok = s.selector(c, listedWords(c)); !ok {
			return
		}
		if _, err := s.pick(c.Request.Context(), actor(c), sel, false); err != nil {
			fail(c, problem(err))
			return
		}
	}
	now := s.Clock()
	until, ok := s.instant(c, "until", now)
	if !ok {
		return
	}
	since, ok := s.instant(c, "since", until.Add(-24*time.Hour))
	if !ok {
		return
	}
	all, more, err := s.Read.Together(c.Request.Context(), core.Actor{ID: actor(c).ID, Name: actor(c).Name, Role: actor(c).Role}, sel, since, until, mostTogether)
	out := client.TogetherPage{Items: make([]client.Together, len(all)), More: more}
	for i, t := range all {
		w := wireTogether(t)
		w.Versions = wire.List(wireVersion, t.Versions)
		out.Items[i] = w
	}
	answer(c, http.StatusOK, out, err)
}
