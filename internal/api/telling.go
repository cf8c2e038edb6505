package api

import (
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strings"

	"github.com/gin-gonic/gin"

	"magpie/client"
	"magpie/internal/core"
	"magpie/internal/core/ref"
	"magpie/internal/routine"
	"magpie/internal/store"
	"magpie/internal/wire"
)

// tellingRoutes are the operations of telling people.
func (s *Server) tellingRoutes() []route {
	const reader, operator, admin = core.Reader, core.Operator, core.Admin
	return []route{
		{"GET", "/tell-events", reader, s.tellEvents, about{id: "listTellEvents", tag: "telling", does: "List the events that people can be told of", gives: client.Page[client.TellEvent]{}}},
		{"GET", "/mail-server", reader, s.mailServer, about{id: "getMailServer", tag: "telling", does: "Who takes mail; an empty server: none is set", gives: client.MailServer{}}},
		{"PUT", "/mail-server", admin, s.setMailServer, about{id: "setMailServer", tag: "telling", does: "Say who takes mail", takes: client.NewMailServer{}, gives: client.MailServer{}}},
		{"DELETE", "/mail-server", admin, s.removeMailServer, about{id: "removeMailServer", tag: "telling", does: "Forget who takes mail; messages wait", status: 204}},
		{"GET", "/recipients", reader, s.recipients, about{id: "listRecipients", tag: "telling", does: "List who can be told", gives: client.Page[client.Recipient]{}}},
		{"GET", "/recipients/:name", reader, s.recipient, about{id: "getRecipient", tag: "telling", does: "One recipient", gives: client.Recipient{}}},
		{"POST", "/recipients", admin, s.saveRecipient, about{id: "addRecipient", tag: "telling", does: "Make somebody known who can be told", more: "A webhook gets a secret where none is given; the answer holds it, this once.", takes: client.NewRecipient{}, status: 201, gives: client.Recipient{}}},
		{"PUT", "/recipients/:name", admin, s.saveRecipient, about{id: "editRecipient", tag: "telling", does: "Put another recipient in the place of one", takes: client.NewRecipient{}, gives: client.Recipient{}}},
		{"DELETE", "/recipients/:name", admin, s.removeRecipient, about{id: "removeRecipient", tag: "telling", does: "Forget a recipient whom no rule tells, with what still waits for it", status: 204}},
		{"POST", "/recipients/:name/test", admin, s.testRecipient, about{id: "testRecipient", tag: "telling", does: "Tell a recipient that this is a test", more: "The answer lists the steps of the conversation, up to the first that failed.", gives: client.Tested{}}},
		{"GET", "/tell-rules", reader, s.tellRules, about{id: "listTellRules", tag: "telling", does: "List of what people are told", gives: client.Page[client.TellRule]{}}},
		{"GET", "/tell-rules/:name", reader, s.tellRule, about{id: "getTellRule", tag: "telling", does: "One rule for telling people", gives: client.TellRule{}}},
		{"POST", "/tell-rules", admin, s.saveTellRule, about{id: "addTellRule", tag: "telling", does: "Have people told", takes: client.NewTellRule{}, status: 201, gives: client.TellRule{}}},
		{"PUT", "/tell-rules/:name", admin, s.saveTellRule, about{id: "editTellRule", tag: "telling", does: "Put another rule in the place of one", takes: client.NewTellRule{}, gives: client.TellRule{}}},
		{"DELETE", "/tell-rules/:name", admin, s.removeTellRule, about{id: "removeTellRule", tag: "telling", does: "Forget a rule, with what it did not tell yet", status: 204}},
		{"POST", "/tell-rules/:name/pause", operator, s.pauseTellRule(true), about{id: "pauseTellRule", tag: "telling", does: "Let a rule tell nobody any more; what it did not tell yet is forgotten", gives: client.TellRule{}}},
		{"POST", "/tell-rules/:name/resume", operator, s.pauseTellRule(false), about{id: "resumeTellRule", tag: "telling", does: "Let a rule tell people again, of what happens from now on", gives: client.TellRule{}}},
		{"GET", "/messages", reader, s.messages, about{id: "listMessages", tag: "telling", does: "List what people were told and are to be, newest first", query: []param{{"state", "string", false, "states"}}, gives: client.Page[client.Message]{}}},
		{"GET", "/messages/:id", reader, s.message, about{id: "getMessage", tag: "telling", does: "One message with its text; secrets are masked", gives: client.Message{}}},
		{"POST", "/messages/:id/retry", operator, s.retryMessage, about{id: "retryMessage", tag: "telling", does: "Have a message tried now that waits or was given up", gives: client.Message{}}},
	}
}

func (s *Server) tellEvents(c *gin.Context) {
	list(c, core.TellEvents, nil, func(e core.TellEvent) string { return e.Name }, func(e core.TellEvent) client.TellEvent { return client.TellEvent(e) })
}

func (s *Server) mailServer(c *gin.Context) {
	m, by, at, err := s.Routine.MailServer(c.Request.Context(), actor(c))
	out := client.MailServer{Server: m.Server, Security: m.Security, User: m.User, Password: m.Password != "", From: m.From, CA: m.CA, Console: m.Console, ChangedBy: by}
	if errors.Is(err, routine.ErrNoMail) {
		out.Security, err = core.MailSecurities[0], nil
	} else {
		out.ChangedAt = &at
	}
	answer(c, http.StatusOK, out, err)
}

func (s *Server) setMailServer(c *gin.Context) {
	var in client.NewMailServer
	if !readBody(c, &in) {
		return
	}
	if err := s.Routine.SaveMailServer(c.Request.Context(), actor(c), core.MailServer(in)); err != nil {
		fail(c, problem(err))
		return
	}
	s.mailServer(c)
}

func (s *Server) removeMailServer(c *gin.Context) {
	gone(c, s.Routine.RemoveMailServer(c.Request.Context(), actor(c)))
}

// gone answers that something was removed.
func gone(c *gin.Context, err error) {
	if err != nil {
		fail(c, problem(err))
		return
	}
	c.Status(http.StatusNoContent)
}

// wireRecipient is a recipient without its secret, with the rules that tell it.
func wireRecipient(r store.Recipient, rules []store.TellRule) client.Recipient {
	out := client.Recipient{Name: r.Name, Kind: r.Kind, To: r.To, URL: r.URL, Address: r.Address, Transport: r.Transport, CA: r.CA, Audit: r.AuditSeq != nil, Rules: []string{}, ChangedBy: r.ChangedBy, ChangedAt: r.ChangedAt}
	for _, x := range rules {
		if slices.Contains(x.Recipients, r.ID) {
			out.Rules = append(out.Rules, x.Name)
		}
	}
	return out
}

func (s *Server) recipients(c *gin.Context) {
	ctx, q := c.Request.Context(), s.Jobs.Store.As(actor(c))
	all, err := q.Recipients(ctx)
	rules, err2 := q.TellRules(ctx)
	list(c, all, errors.Join(err, err2), func(r store.Recipient) string { return r.Name }, func(r store.Recipient) client.Recipient { return wireRecipient(r, rules) })
}

func (s *Server) recipient(c *gin.Context) {
	ctx, q := c.Request.Context(), s.Jobs.Store.As(actor(c))
	r, err := q.Recipient(ctx, c.Param("name"))
	rules, err2 := q.TellRules(ctx)
	answer(c, http.StatusOK, wireRecipient(r, rules), errors.Join(err, err2))
}

// saveRecipient keeps a new recipient, or another one in the place of the one that is named.
func (s *Server) saveRecipient(c *gin.Context) {
	var in client.NewRecipient
	if !readBody(c, &in) {
		return
	}
	ctx, was := c.Request.Context(), c.Param("name")
	r, fresh, err := s.Routine.SaveRecipient(ctx, actor(c), was, in.Name, in.Kind, core.Way{To: in.To, URL: in.URL, Secret: in.Secret, Address: in.Address, Transport: in.Transport, CA: in.CA}, in.Audit)
	rules, err2 := s.Jobs.Store.As(actor(c)).TellRules(ctx)
	out := wireRecipient(r, rules)
	if fresh {
		out.Secret = r.Secret
	}
	answer(c, map[bool]int{true: http.StatusCreated, false: http.StatusOK}[was == ""], out, errors.Join(err, err2))
}

func (s *Server) removeRecipient(c *gin.Context) {
	gone(c, s.Routine.RemoveRecipient(c.Request.Context(), actor(c), c.Param("name")))
}

func (s *Server) testRecipient(c *gin.Context) {
	ctx := c.Request.Context()
	r, err := s.Jobs.Store.As(actor(c)).Recipient(ctx, c.Param("name"))
	out := client.Tested{Recipient: r.Name, OK: true, Steps: []client.TestStep{}}
	if err == nil {
		var steps []routine.Step
		steps, err = s.Routine.TestRecipient(ctx, actor(c), r)
		for _, x := range steps {
			out.Steps = append(out.Steps, client.TestStep{Step: x.Name, OK: x.OK, Says: x.Says})
			out.OK = out.OK && x.OK
		}
	}
	answer(c, http.StatusOK, out, err)
}

// wireRule is a rule with the names of those it tells.
func (s *Server) wireRule(c *gin.Context, r store.TellRule, names map[string]string) (client.TellRule, error) {
	out := client.TellRule{Name: r.Name, Events: r.Events, Selector: strings.Fields(r.Selector), Recipients: []string{}, Days: r.Days, Digest: r.Digest, Zone: r.Zone, Quiet: r.Quiet, Paused: r.Paused, Note: r.Note, ChangedBy: r.ChangedBy, ChangedAt: r.ChangedAt}
	for _, id := range r.Recipients {
		out.Recipients = append(out.Recipients, names[id])
	}
	if next := routine.NextDigest(r, s.Clock()); !next.IsZero() {
		next = next.UTC()
		out.Next = &next
	}
	devices, err := s.Jobs.Store.As(actor(c)).Selected(c.Request.Context(), r.Selector)
	out.Devices = len(devices)
	return out, err
}

// names are the recipients' names by their ids.
func (s *Server) names(c *gin.Context) (map[string]string, error) {
	all, err := s.Jobs.Store.As(actor(c)).Recipients(c.Request.Context())
	names := map[string]string{}
	for _, r := range all {
		names[r.ID] = r.Name
	}
	return names, err
}

func (s *Server) tellRules(c *gin.Context) {
	all, err := s.Jobs.Store.As(actor(c)).TellRules(c.Request.Context())
	names, err2 := s.names(c)
	err = errors.Join(err, err2)
	out := make([]client.TellRule, 0, len(all))
	for _, r := range all {
		if err == nil {
			var w client.TellRule
			w, err = s.wireRule(c, r, names)
			out = append(out, w)
		}
	}
	list(c, out, err, func(r client.TellRule) string { return r.Name }, func(r client.TellRule) client.TellRule { return r })
}

func (s *Server) answerRule(c *gin.Context, status int, r store.TellRule, err error) {
	var out client.TellRule
	if err == nil {
		var names map[string]string
		if names, err = s.names(c); err == nil {
			out, err = s.wireRule(c, r, names)
		}
	}
	answer(c, status, out, err)
}

func (s *Server) tellRule(c *gin.Context) {
	r, err := s.Jobs.Store.As(actor(c)).TellRule(c.Request.Context(), c.Param("name"))
	s.answerRule(c, http.StatusOK, r, err)
}

func (s *Server) saveTellRule(c *gin.Context) {
	var in client.NewTellRule
	if !readBody(c, &in) {
		return
	}
	text, ok := s.selectorText(c, in.Selector)
	if !ok || !noted(c, "note", in.Note) {
		return
	}
	if _, ok := s.chosen(c, in.Selector); !ok { // one that is about nobody is a mistake
		return
	}
	was := c.Param("name")
	r, err := s.Routine.SaveTellRule(c.Request.Context(), actor(c), was, routine.WantedRule{Name: in.Name, Events: in.Events, Selector: text, Recipients: in.Recipients, Days: in.Days, Digest: in.Digest, Zone: in.Zone, Quiet: in.Quiet, Paused: in.Paused, Note: in.Note})
	s.answerRule(c, map[bool]int{true: http.StatusCreated, false: http.StatusOK}[was == ""], r, err)
}

func (s *Server) pauseTellRule(paused bool) gin.HandlerFunc {
	return func(c *gin.Context) {
		r, err := s.Routine.PauseTellRule(c.Request.Context(), actor(c), c.Param("name"), paused)
		s.answerRule(c, http.StatusOK, r, err)
	}
}

func (s *Server) removeTellRule(c *gin.Context) {
	gone(c, s.Routine.RemoveTellRule(c.Request.Context(), actor(c), c.Param("name")))
}

var wiredMessage = wire.Make[client.Message, store.Message]("Text")

// messages lists the outbox, newest first.
func (s *Server) messages(c *gin.Context) {
	n, ok := limit(c, 50, 1000)
	if !ok {
		return
	}
	state := c.Query("state")
	if state != "" && !slices.Contains(core.MessageStates, state) {
		fail(c, wrong("state", fmt.Sprintf("%q is no state of a message; they are %s", state, strings.Join(core.MessageStates, ", ")), ref.Meant(state, core.MessageStates)))
		return
	}
	rows, err := s.Jobs.Store.As(actor(c)).Messages(c.Request.Context(), state, c.Query("cursor"), n)
	next := ""
	if len(rows) == n {
		next = rows[n-1].ID
	}
	answer(c, http.StatusOK, pageOf(rows, next, wiredMessage), err)
}

func (s *Server) message(c *gin.Context) {
	m, err := s.Jobs.Store.As(actor(c)).Message(c.Request.Context(), c.Param("id"))
	out := wiredMessage(m)
	out.Text = m.Text
	answer(c, http.StatusOK, out, err)
}

func (s *Server) retryMessage(c *gin.Context) {
	if err := s.Routine.Retry(c.Request.Context(), actor(c), c.Param("id")); err != nil {
		fail(c, problem(err))
		return
	}
	s.message(c)
}
