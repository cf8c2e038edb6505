package api

import (
	"strings"

	"github.com/gin-gonic/gin"

	"magpie/client"
	"magpie/internal/core"
	"magpie/internal/core/ref"
	"magpie/internal/read"
	"magpie/internal/store"
)

// searchesRoutes are the operations on searches that are kept by a name, for everybody. They are sealed: what
// people look for stands in configurations.
func (s *Server) searchesRoutes() []route {
	const reader, operator = core.Reader, core.Operator
	return []route{
		{"GET", "/searches", reader, s.searches, about{id: "listSearches", tag: "search", does: "Searches that are kept by a name", gives: client.Page[client.SavedSearch]{}}},
		{"PUT", "/searches/:name", operator, s.saveSearch, about{id: "saveSearch", tag: "search", does: "Keep a search by a name, for everybody", more: "One that asks for secrets is not kept.", takes: client.NewSearch{}, gives: client.SavedSearch{}}},
		{"DELETE", "/searches/:name", operator, s.forgetSearch, about{id: "forgetSearch", tag: "search", does: "Forget a search", status: 204}},
	}
}

// searchSetting is what the name of a kept search begins with among the settings.
const searchSetting = "search: "

func (s *Server) searches(c *gin.Context) {
	rows, err := store.Settings[client.NewSearch](c.Request.Context(), s.Jobs.Store.As(actor(c)), searchSetting)
	list(c, rows, err, func(r store.Named[client.NewSearch]) string { return r.Name }, wireSearch)
}

func wireSearch(r store.Named[client.NewSearch]) client.SavedSearch {
	return client.SavedSearch{Name: strings.TrimPrefix(r.Name, searchSetting), NewSearch: r.Value, By: r.By, At: r.At}
}

func (s *Server) saveSearch(c *gin.Context) {
	var in client.NewSearch
	if !readBody(c, &in) {
		return
	}
	name := strings.TrimSpace(c.Param("name"))
	if name == "" || len(name) > 60 || strings.ContainsAny(name, "/\n") {
		fail(c, wrong("name", "a search is kept by a name of up to 60 characters, without /", ""))
		return
	}
	if err := (read.SearchRequest{Line: in.Line, In: in.In, Lacks: in.Lacks, Regexp: in.Regexp}).Sound(); err != nil {
		fail(c, problem(err))
		return
	}
	if len(in.Selector) > 0 {
		if _, err := ref.ParseSelector(in.Selector); err != nil {
			fail(c, problem(err))
			return
		}
	}
	ctx := c.Request.Context()
	err := s.Jobs.Store.Tx(ctx, actor(c), func(q *store.Q) error {
		if err := q.SetSetting(ctx, searchSetting+name, in); err != nil {
			return err
		}
		return q.Audit(ctx, "search kept", name, "") // what is looked for may stand in configurations
	})
	answer(c, 200, client.SavedSearch{Name: name, NewSearch: in, By: actor(c).Name, At: s.Clock().UTC()}, err)
}

func (s *Server) forgetSearch(c *gin.Context) {
	ctx, name := c.Request.Context(), c.Param("name")
	gone(c, s.Jobs.Store.Tx(ctx, actor(c), func(q *store.Q) error {
		if err := q.ForgetSetting(ctx, "search", searchSetting, name); err != nil {
			return err
		}
		return q.Audit(ctx, "search forgotten", name, "")
	}))
}
