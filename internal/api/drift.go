package api

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/gin-gonic/gin"

	"magpie/client"
	"magpie/internal/core"
	"magpie/internal/core/ref"
	"magpie/internal/read"
	"magpie/internal/store"
	"magpie/internal/visit"
	"magpie/internal/wire"
)

// driftRoutes are the operations on what devices are judged by.
func (s *Server) driftRoutes() []route {
	const reader, operator = core.Reader, core.Operator
	of := []param{{"selector", "string", false, "words like site=skerrinsay tag=core name=quay-*, separated by blanks"}}
	return []route{
		{"GET", "/drift", reader, s.drift, about{id: "judgeDrift", tag: "drift", does: "Judge devices against their baselines", more: "And by what rules want of their lines.", query: append(of, param{"live", "boolean", false, "look at the devices now; takes an operator"}, param{"off", "boolean", false, "only those that have drifted, acknowledged or not, as they were last judged"}, param{"since", "boolean", false, "tell since which version each that drifted has been off"}), gives: client.Page[client.Drift]{}}},
		{"GET", "/drift-report", reader, s.driftReport, about{id: "getDriftReport", tag: "drift", does: "A report of drift to print or to keep", more: "Secrets are hidden, whoever asks.", query: append(of, param{"as", "string", false, "html, csv or json; html if not said"}, param{"since", "string", false, "with what changed since then; a week ago if not said"}, param{"until", "string", false, "to this time; now if not said"}), mime: "text/html, text/csv, application/json", gives: ""}},
		{"POST", "/acknowledgements", operator, s.acknowledge, about{id: "acknowledgeDrift", tag: "drift", does: "Say that drift is known, until a time", more: "It covers the lines that differ now of all drifted parts of the devices. When other lines differ, or the time is over, it is drift again.", takes: client.NewAcknowledgement{}, gives: client.Acknowledged{}}},
		{"DELETE", "/acknowledgements", operator, s.unacknowledge, about{id: "unacknowledgeDrift", tag: "drift", does: "Have acknowledged drift count again", query: of, gives: client.Acknowledged{}}},
		{"GET", "/rules", reader, s.rules, about{id: "listRules", tag: "drift", does: "What people say of lines: noise, must be there, must not", gives: client.Page[client.Rule]{}}},
		{"GET", "/rules/:name", reader, s.rule, about{id: "getRule", tag: "drift", does: "A rule, with the lines that it hides, misses or does not want now", gives: client.RuleFinds{}}},
		{"PUT", "/rules/:name", operator, s.setRule, about{id: "setRule", tag: "drift", does: "Say of lines that they do not count, have to be there, or must not", more: "It takes the right to see secrets: by rules of one's own they could be guessed. The devices are judged anew by a job. What becomes a version, and what is proved after a push, goes by the dialect alone.", takes: client.NewRule{}, gives: client.Rule{}}},
		{"DELETE", "/rules/:name", operator, s.removeRule, about{id: "removeRule", tag: "drift", does: "Take a rule away", status: 204}},
	}
}

var wireDrift = wire.Make[client.Drift, read.Drift]("Device", "Differences", "Since", "Known", "Ignored", "Unsure", "LetGo")

func (s *Server) drift(c *gin.Context) {
	live := c.Query("live") == "true"
	if live && !actor(c).May(core.Operator) {
		fail(c, &client.Problem{Status: 403, Title: "not allowed", Detail: "looking at devices live takes the role operator", Next: "leave live out to judge by the newest versions"})
		return
	}
	devs, next, ok := s.devicePage(c)
	if !ok {
		return
	}
	if live {
		if err := s.wrote(c.Request.Context(), actor(c), "looked at live", cut(c.Query("selector"), 200), fmt.Sprintf("drift of %d devices", len(devs))); err != nil {
			fail(c, problem(err))
			return
		}
	}
	if c.Query("off") == "true" {
		devs = slices.DeleteFunc(devs, func(d core.Device) bool { return !d.Drifted })
	}
	items, ok := s.judged(c, actor(c), devs, live, c.Query("since") == "true")
	if ok {
		c.JSON(200, client.Page[client.Drift]{Items: items, Next: next})
	}
}

// judged is how devices stand to what they are judged by, as somebody may see it.
func (s *Server) judged(c *gin.Context, who core.Actor, devs []core.Device, live, since bool) ([]client.Drift, bool) {
	ctx, out := c.Request.Context(), []client.Drift{}
	for _, d := range devs {
		parts, err := s.Read.JudgedParts(ctx, who, d)
		if err != nil {
			fail(c, problem(err))
			return nil, false
		}
		for _, part := range parts {
			j, err := s.Read.Drift(ctx, who, d, part, live)
			if err != nil {
				fail(c, problem(err))
				return nil, false
			}
			if who.Secrets && slices.ContainsFunc(j.Differences, visit.Difference.Hides) && !s.saw(c, d.Name, "drift of "+part) {
				return nil, false
			}
			one := wireDrift(j)
			noise, unsure, letGo := s.Read.Aside(j)
			one.Ignored, one.Unsure, one.LetGo = noise, unsure, wireLetGo(letGo)
			one.Device, one.Differences = d.Name, visit.SeenBy(who, j.Differences)
			if k := j.Known; k != nil {
				one.Known = &client.Known{Reason: k.Reason, By: k.Actor, At: k.At, Until: k.Until}
			}
			if since {
				first, err := s.Read.DriftedSince(ctx, j)
				if err != nil {
					fail(c, problem(err))
					return nil, false
				}
				if first != nil {
					o := wireOrigin(*first)
					one.Since = &o
				}
			}
			out = append(out, one)
		}
	}
	return out, true
}

// acknowledge says of what differs now on devices that it is known.
func (s *Server) acknowledge(c *gin.Context) {
	var in client.NewAcknowledgement
	if !readBody(c, &in) || !noted(c, "reason", in.Reason) {
		return
	}
	switch in.Reason = strings.TrimSpace(in.Reason); {
	case in.Reason == "":
		fail(c, wrong("reason", "no reason is given", "say why it may stay as it is until then"))
		return
	case !in.Until.After(s.Jobs.Now()):
		fail(c, wrong("until", "the time at which it counts again is not in the future", "name one that is to come, like 2026-12-24T08:00:00Z"))
		return
	case in.Until.After(s.Jobs.Now().AddDate(2, 0, 0)):
		fail(c, wrong("until", "that is more than two years away", "make it the baseline, if it is to stay"))
		return
	}
	devices, ok := s.chosen(c, in.Selector)
	if ok {
		s.eachPart(c, devices, func(d core.Device, part string) error {
			return s.Read.Acknowledge(c.Request.Context(), actor(c), d, part, in.Reason, in.Until)
		})
	}
}

func (s *Server) unacknowledge(c *gin.Context) {
	if devices, ok := s.chosen(c, strings.Fields(c.Query("selector"))); ok {
		s.eachPart(c, devices, func(d core.Device, part string) error {
			return s.Read.Unacknowledge(c.Request.Context(), actor(c), d, part)
		})
	}
}

// eachPart writes down, or takes back, that what differs of each part of devices is known.
func (s *Server) eachPart(c *gin.Context, devices []core.Device, say func(d core.Device, part string) error) {
	out := client.Acknowledged{Parts: []string{}, Skipped: []client.Skipped{}}
	for _, d := range devices {
		parts, err := s.Read.JudgedParts(c.Request.Context(), actor(c), d)
		if err != nil {
			fail(c, problem(err))
			return
		}
		for _, part := range parts {
			switch err := say(d, part); {
			case errors.Is(err, read.ErrSteady):
				out.Skipped = append(out.Skipped, client.Skipped{Device: d.Name, Why: err.Error()})
			case err != nil:
				fail(c, problem(fmt.Errorf("%s, after %s: %w", d.Name, core.Count(len(out.Parts), "part", "parts"), err)))
				return
			default:
				out.Parts = append(out.Parts, d.Name+"/"+part)
			}
		}
	}
	c.JSON(200, out)
}

var wiredRule = wire.Make[client.Rule, store.OwnRule]("Selector", "Job")

func wireRule(r store.OwnRule) client.Rule {
	out := wiredRule(r)
	out.Selector = strings.Fields(r.Selector)
	return out
}

func (s *Server) rules(c *gin.Context) {
	rows, err := s.Jobs.Store.As(actor(c)).OwnRules(c.Request.Context())
	list(c, rows, err, func(r store.OwnRule) string { return r.Name }, wireRule)
}

var wireRuleLine = wire.Make[client.RuleLine, read.RuleLine]()

func (s *Server) rule(c *gin.Context) {
	ctx := c.Request.Context()
	r, err := s.Jobs.Store.As(actor(c)).OwnRule(ctx, c.Param("name"))
	if err != nil {
		fail(c, problem(err))
		return
	}
	found, err := s.Read.RuleFinds(ctx, actor(c), r)
	out := client.RuleFinds{Rule: wireRule(r), Looked: found.Looked, Devices: found.Devices, Lines: found.Lines, Items: wire.List(wireRuleLine, found.Items), Unread: append([]string{}, found.Unread...), Text: found.Text, Variables: found.Variables}
	answer(c, 200, out, err)
}

func (s *Server) setRule(c *gin.Context) {
	var in client.NewRule
	if !readBody(c, &in) || !noted(c, "note", in.Note) {
		return
	}
	r := store.OwnRule{Name: c.Param("name"), Kind: in.Kind, Path: strings.Join(strings.Fields(in.Path), " "), Dialect: in.Dialect, Note: in.Note, Text: in.Text}
	if err := ref.DeviceName(r.Name); err != nil {
		fail(c, wrong("name", strings.Replace(err.Error(), "device's name", "rule's name", 1), ""))
		return
	}
	text, ok := s.selectorText(c, in.Selector)
	if !ok {
		return
	}
	if _, ok := s.chosen(c, in.Selector); !ok {
		return
	}
	// A rule is matched against texts with their secrets, and whether it matches is shown.
	if !actor(c).Secrets {
		fail(c, &client.Problem{Status: 403, Title: "not allowed", Detail: "by rules of one's own the secrets in texts could be guessed",
			Next: "ask somebody who may see secrets, or an admin for the right: magpie user edit NAME --secrets"})
		return
	}
	r.Selector = text
	r, j, err := s.Read.SetRule(c.Request.Context(), actor(c), r)
	if errors.Is(err, read.ErrRule) {
		fail(c, wrong("path", err.Error(), "a path is like: lane {name} / guard strict; {name} stands for one word, {rest...} for all that are left"))
		return
	}
	out := wireRule(r)
	out.Job = j.ID
	answer(c, 200, out, err)
}

func (s *Server) removeRule(c *gin.Context) {
	_, err := s.Read.RemoveRule(c.Request.Context(), actor(c), c.Param("name"))
	gone(c, err)
}
