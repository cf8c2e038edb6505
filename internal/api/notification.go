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
		{"GET", "/notification-events", reader, s.tellEvents, about{id: "listNotificationEvents", tag: "notifications", does: "List the events that people can be told of", gives: client.Page[client.NotificationEvent]{}}},
		{"GET", "/mail-server", reader, s.mailServer, about{id: "getMailServer", tag: "notifications", does: "Who takes mail; an empty server: none is set", gives: client.MailServer{}}},
		{"PUT", "/mail-server", admin, s.setMailServer, about{id: "setMailServer", tag: "notifications", does: "Say who takes mail", takes: client.NewMailServer{}, gives: client.MailServer{}}},
		{"DELETE", "/mail-server", admin, s.removeMailServer, about{id: "removeMailServer", tag: "notifications", does: "Forget who takes mail; messages wait", status: 204}},
		{"GET", "/recipients", reader, s.recipients, about{id: "listRecipients", tag: "notifications", does: "List who can be told", gives: client.Page[client.Recipient]{}}},
		{"GET", "/recipients/:name", reader, s.recipient, about{id: "getRecipient", tag: "notifications", does: "One recipient", gives: client.Recipient{}}},
		{"POST", "/recipients", admin, s.saveRecipient, about{id: "addRecipient", tag: "notifications", does: "Make somebody known who can be told", more: "A webhook gets a secret where none is given; the answer holds it, this once.", takes: client.NewRecipient{}, status: 201, gives: client.Recipient{}}},
		{"PUT", "/recipients/:name", admin, s.saveRecipient, about{id: "editRecipient", tag: "notifications", does: "Put another recipient in the place of one", takes: client.NewRecipient{}, gives: client.Recipient{}}},
		{"DELETE", "/recipients/:name", admin, s.removeRecipient, about{id: "removeRecipient", tag: "notifications", does: "Forget a recipient whom no rule tells, with what still waits for it", status: 204}},
		{"POST", "/recipients/:name/test", admin, s.testRecipient, about{id: "testRecipient", tag: "notifications", does: "Tell a recipient that this is a test", more: "The answer lists the steps of the conversation, up to the first that failed.", gives: client.Tested{}}},
		{"GET", "/notification-rules", reader, s.tellRules, about{id: "listNotificationRules", tag: "notifications", does: "List of what people are told", gives: client.Page[client.NotificationRule]{}}},
		{"GET", "/notification-rules/:name", reader, s.tellRule, about{id: "getNotificationRule", tag: "notifications", does: "One notification rule", gives: client.NotificationRule{}}},
		{"POST", "/notification-rules", admin, s.saveNotificationRule, about{id: "addNotificationRule", tag: "notifications", does: "Have people told", takes: client.NewNotificationRule{}, status: 201, gives: client.NotificationRule{}}},
		{"PUT", "/notification-rules/:name", admin, s.saveNotificationRule, about{id: "editNotificationRule", tag: "notifications", does: "Put another rule in the place of one", takes: client.NewNotificationRule{}, gives: client.NotificationRule{}}},
		{"DELETE", "/notification-rules/:name", admin, s.removeNotificationRule, about{id: "removeNotificationRule", tag: "notifications", does: "Forget a rule, with what it did not tell yet", status: 204}},
		{"POST", "/notification-rules/:name/pause", operator, s.pauseNotificationRule(true), about{id: "pauseNotificationRule", tag: "notifications", does: "Let a rule tell nobody any more; what it did not tell yet is forgotten", gives: client.NotificationRule{}}},
		{"POST", "/notification-rules/:name/resume", operator, s.pauseNotificationRule(false), about{id: "resumeTellRule", tag: "notifications", does: "Let a rule tell people again, of what happens from now on", gives: client.NotificationRule{}}},
		{"GET", "/messages", reader, s.messages, about{id: "listMessages", tag: "notifications", does: "List what people were told and are to be, newest first", query: []param{{"state", "string", false, "states"}}, gives: client.Page[client.Message]{}}},
		{"GET", "/messages/:id", reader, s.message, about{id: "getMessage", tag: "notifications", does: "One message with its text; secrets are masked", gives: client.Message{}}},
		{"POST", "/messages/:id/retry", operator, s.retryMessage, about{id: "retryMessage", tag: "notifications", does: "Have a message tried now that waits or was failed", gives: client.Message{}}},
	}
}

func (s *Server) tellEvents(c *gin.Context) {
	list(c, core.NotificationEvents, nil, func(e core.NotificationEvent) string { return e.Name }, func(e core.NotificationEvent) client.NotificationEvent { return client.NotificationEvent(e) })
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
func wireRecipient(r store.Recipient, rules []store.NotificationRule) client.Recipient {
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
	rules, err2 := q.NotificationRules(ctx)
	list(c, all, errors.Join(err, err2), func(r store.Recipient) string { return r.Name }, func(r store.Recipient) client.Recipient { return wireRecipient(r, rules) })
}

func (s *Server) recipient(c *gin.Context) {
	ctx, q := c.Request.Context(), s.Jobs.Store.As(actor(c))
	r, err := q.Recipient(ctx, c.Param("name"))
	rules, err2 := q.NotificationRules(ctx)
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
	rules, err2 := s.Jobs.Store.As(actor(c)).NotificationRules(ctx)
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
func (s *Server) wireRule(c *gin.Context, r store.NotificationRule, names map[string]string) (client.NotificationRule, error) {
	out := client.NotificationRule{Name: r.Name, Events: r.Events, Selector: strings.Fields(r.Selector), Recipients: []string{}, Days: r.Days, Digest: r.Digest, Zone: r.Zone, Quiet: r.Quiet, Paused: r.Paused, Note: r.Note, ChangedBy: r.ChangedBy, ChangedAt: r.ChangedAt}
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
	all, err := s.Jobs.Store.As(actor(c)).NotificationRules(c.Request.Context())
	names, err2 := s.names(c)
	err = errors.Join(err, err2)
	out := make([]client.NotificationRule, 0, len(all))
	for _, r := range all {
		if err == nil {
			var w client.NotificationRule
			w, err = s.wireRule(c, r, names)
			out = append(out, w)
		}
	}
	list(c, out, err, func(r client.NotificationRule) string { return r.Name }, func(r client.NotificationRule) client.NotificationRule { return r })
}

func (s *Server) answerRule(c *gin.Context, status int, r store.NotificationRule, err error) {
	var out client.NotificationRule
	if err == nil {
		var names map[string]string
		if names, err = s.names(c); err == nil {
			out, err = s.wireRule(c, r, names)
		}
	}
	answer(c, status, out, err)
}

func (s *Server) tellRule(c *gin.Context) {
	r, err := s.Jobs.Store.As(actor(c)).NotificationRule(c.Request.Context(), c.Param("name"))
	s.answerRule(c, http.StatusOK, r, err)
}

func (s *Server) saveNotificationRule(c *gin.Context) {
	var in client.NewNotificationRule
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
	r, err := s.Routine.SaveNotificationRule(c.Request.Context(), actor(c), was, routine.WantedRule{Name: in.Name, Events: in.Events, Selector: text, Recipients: in.Recipients, Days: in.Days, Digest: in.Digest, Zone: in.Zone, Quiet: in.Quiet, Paused: in.Paused, Note: in.Note})
	s.answerRule(c, map[bool]int{true: http.StatusCreated, false: http.StatusOK}[was == ""], r, err)
}

func (s *Server) pauseNotificationRule(paused bool) gin.HandlerFunc {
	return func(c *gin.Context) {
		r, err := s.Routine.PauseNotificationRule(c.Request.Context(), actor(c), c.Param("name"), paused)
		s.answerRule(c, http.StatusOK, r, err)
	}
}

func (s *Server) removeNotificationRule(c *gin.Context) {
	gone(c, s.Routine.RemoveNotificationRule(c.Request.Context(), actor(c), c.Param("name")))
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
