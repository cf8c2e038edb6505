package api

import (
	"context"
	"fmt"
	"strings"
	"unicode/utf8"

	"github.com/gin-gonic/gin"

	"magpie/client"
	"magpie/internal/core"
	"magpie/internal/core/ref"
)

const likeSelector = "name devices, or select them like site=skerrinsay tag=core name=quay-*; all is the whole fleet"

// selector reads a selector whose every word means something: an empty one, or
// an unknown key, kind, state or dialect, is an error.
func (s *Server) selector(c *gin.Context, words []string) (ref.Selector, bool) {
	sel, err := ref.ParseSelector(words)
	if err == nil {
		err = sel.Known("kind", core.Kinds)
	}
	if err == nil {
		err = sel.Known("state", core.States)
	}
	if err == nil {
		var names []string
		for _, d := range s.Visits.Dialects() {
			names = append(names, d.Dialect)
		}
		err = sel.Known("dialect", names)
	}
	if err != nil {
		fail(c, wrong("selector", err.Error(), likeSelector))
		return sel, false
	}
	return sel, true
}

// devicePage is the page of the devices that a list goes by; the database is asked
// for no others.
func (s *Server) devicePage(c *gin.Context) (rows []core.Device, next string, ok bool) {
	sel, ok := s.selector(c, listedWords(c))
	if !ok {
		return nil, "", false
	}
	n, ok := limit(c, 1000, 1000)
	if !ok {
		return nil, "", false
	}
	ctx, cursor := c.Request.Context(), c.Query("cursor")
	more := false
	var err error
	if cursor == "" && !sel.All() { // words that nobody answers to are a mistake, and looked for once
		rows, err = s.pick(ctx, actor(c), sel, false)
		more = len(rows) > n
		rows = rows[:min(n, len(rows))]
	} else {
		rows, more, err = s.Jobs.Store.As(actor(c)).DevicesAfter(ctx, sel, cursor, n)
	}
	if err != nil {
		fail(c, problem(err))
		return nil, "", false
	}
	if more {
		next = rows[len(rows)-1].Name
	}
	return rows, next, true
}

// listedWords are the words of the selector that a list goes by.
func listedWords(c *gin.Context) []string {
	if raw, given := c.GetQuery("selector"); given {
		return []string{raw}
	}
	return []string{"all"}
}

// chosen reads the devices that something is to be done to; none is a mistake.
func (s *Server) chosen(c *gin.Context, words []string) ([]core.Device, bool) {
	return s.picked(c, words, true)
}

func (s *Server) picked(c *gin.Context, words []string, some bool) ([]core.Device, bool) {
	sel, ok := s.selector(c, words)
	if !ok {
		return nil, false
	}
	devs, err := s.pick(c.Request.Context(), actor(c), sel, some)
	if err != nil {
		fail(c, problem(err))
		return nil, false
	}
	return devs, true
}

// pick lists the devices a selector picks. A word that nobody answers to is a
// mistake: the error says what may have been meant. So is a choice that leaves
// nobody, unless it is by state and only looked at.
func (s *Server) pick(ctx context.Context, a core.Actor, sel ref.Selector, some bool) ([]core.Device, error) {
	q := s.Jobs.Store.As(a)
	devs, err := q.Devices(ctx, sel)
	if err != nil || sel.All() && len(devs) > 0 {
		return devs, err
	}
	if names := sel.Exact(); len(names) > 0 && len(devs) == len(distinct(names)) {
		return devs, nil
	}
	all, err := q.Devices(ctx, ref.All())
	if err != nil {
		return nil, err
	}
	subjects := make([]ref.Subject, len(all))
	for i, d := range all {
		subjects[i] = ref.Subject{Name: d.Name, Site: d.Site, Kind: d.Kind, Dialect: d.Dialect, State: d.State, Model: d.Model, Release: d.Release, Tags: d.Tags}
	}
	if word, meant := sel.Nobody(subjects); word != "" {
		p := &client.Problem{Status: 404, Title: "not found", Detail: fmt.Sprintf("no device was found for %q; nothing was done", word), Next: meant}
		if p.Next == "" {
			p.Next = "see which there are: magpie device list"
		}
		return nil, p
	}
	if len(devs) == 0 && (some || !sel.ByState() && !sel.All()) {
		return nil, &client.Problem{Status: 404, Title: "nothing selected", Detail: "the selector picks no device; nothing was done", Next: "see which there are: magpie device list"}
	}
	return devs, nil
}

func distinct(words []string) map[string]bool {
	out := map[string]bool{}
	for _, w := range words {
		out[w] = true
	}
	return out
}

// keepable tells why a selector is too long to be kept as field, or nil.
func keepable(field, text string) *client.Problem {
	if utf8.RuneCountInString(text) <= mostOf {
		return nil
	}
	return wrong(field, fmt.Sprintf("the %s has more than %d characters", field, mostOf), "use patterns, or a tag")
}

// selectorText reads a selector that is kept as it was typed.
func (s *Server) selectorText(c *gin.Context, words []string) (string, bool) {
	text := strings.Join(words, " ")
	if p := keepable("selector", text); p != nil {
		fail(c, p)
		return "", false
	}
	_, ok := s.selector(c, words)
	return text, ok
}
