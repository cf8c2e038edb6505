package cli

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"fmt"
	"maps"
	"os"
	"slices"
	"sync"
	"time"

	"github.com/schollz/progressbar/v3"
	"github.com/urfave/cli/v3"
	"golang.org/x/term"

	"magpie/client"
)

// onceKey makes repeating a request harmless.
func onceKey() string {
	b := make([]byte, 12)
	_, _ = rand.Read(b)
	return hex.EncodeToString(b)
}

func (a *app) pull() *cli.Command {
	return a.do("pull", "SELECTOR…", "pull devices now", []cli.Flag{
		&cli.StringFlag{Name: "name", Usage: "a `NAME` for the versions, like before-upgrade; where nothing changed, the current ones have it then"},
		&cli.StringFlag{Name: "note", Usage: "a `TEXT` to them, like why they are taken"},
	}, 1, -1, func(ctx context.Context, c *cli.Command, s *client.Client, sel []string) error {
		jobs, err := s.PullAs(ctx, client.NewPull{Selector: sel, Name: c.String("name"), Note: c.String("note")}, onceKey())
		if err != nil {
			return err
		}
		bar := progressbar.NewOptions(len(jobs), progressbar.OptionSetWriter(os.Stderr), progressbar.OptionSetDescription("pulling"),
			progressbar.OptionShowCount(), progressbar.OptionClearOnFinish(), progressbar.OptionSetWidth(30),
			progressbar.OptionSetVisibility(len(jobs) > 1 && term.IsTerminal(int(os.Stderr.Fd()))))
		ended := make([]client.Job, len(jobs))
		var wg sync.WaitGroup
		var mu sync.Mutex
		gate := make(chan struct{}, 32)
		var trouble error
		for i, j := range jobs {
			wg.Add(1)
			gate <- struct{}{}
			if ctx.Err() != nil {
				<-gate
				wg.Done()
				continue
			}
			go func() {
				defer func() { <-gate; wg.Done() }()
				end, err := s.Watch(ctx, j.ID, nil, nil)
				mu.Lock()
				defer mu.Unlock()
				ended[i] = end
				if err != nil && trouble == nil {
					trouble = fmt.Errorf("following job %s: %w", j.ID, err)
				}
				_ = bar.Add(1)
			}()
		}
		wg.Wait()
		_ = bar.Finish()
		if ctx.Err() != nil {
			return a.leftPulling(c, jobs, ended)
		}
		if trouble != nil {
			return trouble
		}
		failed := 0
		for _, j := range ended {
			if j.Outcome != "done" {
				failed++
			}
		}
		a.print(c, ended, func() {
			a.pulled(ended)
			for _, j := range ended {
				if j.Outcome != "done" {
					a.advise(ctx, s, j)
				}
			}
			if failed > 0 && len(ended) > 1 {
				a.tell("%d of %s did not come to a good end\n", failed, count(len(ended), "pull", "pulls"))
			}
		})
		if failed > 0 {
			return errDiffers
		}
		return nil
	})
}

// leftPulling says what is done and what goes on when somebody leaves with Ctrl-C.
func (a *app) leftPulling(c *cli.Command, jobs, ended []client.Job) error {
	var done, open []client.Job
	for i, j := range ended {
		if j.State == "ended" {
			done = append(done, j)
		} else {
			open = append(open, jobs[i])
		}
	}
	a.print(c, done, func() {
		if len(done) > 0 {
			a.pulled(done)
		}
	})
	if len(open) == 1 {
		return fmt.Errorf("the pull of %s goes on without this terminal; follow it: magpie job watch %s; stop it: magpie job cancel %[2]s", open[0].Device, open[0].ID)
	}
	return fmt.Errorf("%s under way or waiting go on without this terminal; look at them: magpie job list --kind pull", count(len(open), "pull", "pulls"))
}

// pulled shows what came of pulls.
func (a *app) pulled(ended []client.Job) {
	list(a.s, ended, cells[client.Job]{"outcome": func(j client.Job) cell { return cell{j.Outcome, stateStyle(j.Outcome)} }}, "device", "outcome", "summary")
}

// advise prints what a failed job's log says to do.
func (a *app) advise(ctx context.Context, s *client.Client, j client.Job) {
	entries, err := s.Log(ctx, j.ID, 0)
	if err != nil {
		return
	}
	for i, e := range entries {
		if e.Kind == "info" && i > 0 && entries[i-1].Kind == "trouble" {
			a.tell("%s: %s\n", j.Device, e.Text)
		}
	}
}

func (a *app) job() *cli.Command {
	return &cli.Command{Name: "job", Usage: "work under way and done, and what is said to it", Action: a.sayOther, Commands: append([]*cli.Command{
		a.do("list", "", "list jobs, newest first", []cli.Flag{
			&cli.StringFlag{Name: "state", Usage: "`STATE`: queued, running, waiting, ended"},
			&cli.StringFlag{Name: "kind", Usage: "`KIND`, as magpie job kinds lists them"},
			&cli.StringFlag{Name: "device", Usage: "`DEVICE`"},
			&cli.StringFlag{Name: "outcome", Usage: "`OUTCOME`, like failed"},
			&cli.StringFlag{Name: "who", Usage: "who asked for them: a `USER`, or \"schedule nightly\""},
			&cli.StringFlag{Name: "since", Usage: "asked for at this `TIME` or later, like 2026-11-20"},
			&cli.StringFlag{Name: "until", Usage: "asked for at this `TIME` or before"},
			&cli.StringSliceFlag{Name: "of", Usage: "a `SELECTOR` of devices, like site=skerrinsay"},
			&cli.StringFlag{Name: "part-of", Usage: "only those that this `JOB` began"},
			&cli.IntFlag{Name: "limit", Value: 20, Usage: "how many"},
			&cli.StringFlag{Name: "before", Usage: "only jobs older than this `JOB`"},
		}, 0, 0, a.jobList),
		a.do("kinds", "", "list the kinds of jobs, and what they can wait for", nil, 0, 0, a.jobKinds),
		a.do("ask", "KIND [DEVICE]", "ask for a job by its kind's name, and follow it", []cli.Flag{
			&cli.StringSliceFlag{Name: "with", Usage: "`NAME=VALUE` that goes with it, as often as wanted"},
		}, 1, 2, a.jobAsk),
		a.do("show", "JOB", "a job with its log", nil, 1, 1, a.jobShow),
		a.do("watch", "JOB", "follow a job to its end", nil, 1, 1, a.jobWatch),
		a.do("repeat", "JOB", "ask for one like it, and follow it", []cli.Flag{&cli.StringFlag{Name: "note", Usage: "`WHY`"}}, 1, 1, func(ctx context.Context, c *cli.Command, s *client.Client, got []string) error {
			j, err := s.Repeat(ctx, got[0], client.NewRun{Note: c.String("note")}, onceKey())
			if err != nil {
				return err
			}
			return a.jobWatch(ctx, c, s, []string{j.ID})
		}),
		a.do("cancel", "JOB", "ask a job to stop", nil, 1, 1, func(ctx context.Context, c *cli.Command, s *client.Client, got []string) error {
			j, err := s.Cancel(ctx, got[0])
			if err != nil {
				return err
			}
			a.print(c, j, func() {
				if j.State == "ended" {
					a.s.printf("%s\n", j.Summary)
					return
				}
				a.s.printf("It was asked to stop; follow it: magpie job watch %s\n", j.ID)
			})
			return nil
		}),
	}, a.decide()...)}
}

func (a *app) jobList(ctx context.Context, c *cli.Command, s *client.Client, _ []string) error {
	f := client.JobFilter{State: c.String("state"), Kind: c.String("kind"), Device: c.String("device"), PartOf: c.String("part-of"), Outcome: c.String("outcome"), Actor: c.String("who"), Selector: c.StringSlice("of"), Cursor: c.String("before"), Limit: c.Int("limit")}
	for _, x := range []struct {
		name string
		into *string
	}{{"since", &f.Since}, {"until", &f.Until}} {
		var err error
		if *x.into, err = spanTime(c, x.name); err != nil {
			return err
		}
	}
	page, err := s.Jobs(ctx, f)
	if err != nil {
		return err
	}
	a.print(c, page, func() {
		if len(page.Items) == 0 {
			a.s.printf("No jobs.\n")
			return
		}
		list(a.s, page.Items, cells[client.Job]{
			"id":     func(j client.Job) cell { return cell{j.ID, faint} },
			"device": func(j client.Job) cell { return cell{j.Device, strong} },
			"state": func(j client.Job) cell {
				word := j.State
				if j.State == "ended" {
					word = j.Outcome
				}
				return cell{word, stateStyle(word)}
			}})
	})
	return nil
}

func (a *app) jobHead(j client.Job) {
	word := j.State
	if j.State == "ended" {
		word = j.Outcome
	}
	took := ""
	if j.StartedAt != nil && j.EndedAt != nil {
		took = j.EndedAt.Sub(*j.StartedAt).Round(10 * time.Millisecond).String()
	}
	a.s.facts("job", a.s.paint(strong, j.ID), "kind", j.Kind, "device", j.Device, "state", a.s.paint(stateStyle(word), word), "summary", j.Summary,
		"asked for", fmt.Sprintf("%s %s by %s", when(j.CreatedAt), zoneName(), j.Actor), "took", took, "usually", usually(j), "undoes", j.UndoOf, "part of", j.PartOf)
}

func (a *app) jobShow(ctx context.Context, c *cli.Command, s *client.Client, got []string) error {
	j, err := s.Job(ctx, got[0])
	if err != nil {
		return err
	}
	entries, err := s.Log(ctx, got[0], 0)
	if err != nil {
		return err
	}
	a.print(c, struct {
		Job client.Job     `json:"job"`
		Log []client.Entry `json:"log"`
	}{j, entries}, func() {
		a.jobHead(j)
		a.s.printf("\n")
		for _, e := range entries {
			a.logLine(e)
		}
		switch {
		case j.Plan != nil:
			a.s.printf("\n")
			a.showPlan(j)
			if p, err := s.Preview(ctx, j.Plan.Preview); err == nil && j.State != "ended" {
				a.s.printf("\nWhat would be sent:\n")
				a.showPreview(p, false, "")
			}
		case j.Kind == "push" && j.State == "ended":
			a.showPush(j)
		case j.RestorePreview != nil:
			a.s.printf("\n")
			a.showRestorePreview(j)
		case j.Restore != nil:
			a.showRestore(j)
		case j.Scheduled != nil:
			a.showRun(j)
		case j.Result != nil:
			a.s.printf("\n")
			a.showResult(j.Result)
		}
	})
	return nil
}

// showResult shows what a job has led to whose kind has no view of its own here.
func (a *app) showResult(result any) {
	m, ok := result.(map[string]any)
	if !ok {
		a.s.printf("%v\n", result)
		return
	}
	var facts []string
	for _, k := range slices.Sorted(maps.Keys(m)) {
		facts = append(facts, k, fmt.Sprint(m[k]))
	}
	a.s.facts(facts...)
}

func (a *app) jobWatch(ctx context.Context, c *cli.Command, s *client.Client, got []string) error {
	seen := a.logLine
	if c.Bool("json") {
		seen = nil
	}
	j, err := s.Watch(ctx, got[0], seen, a.waits())
	if err != nil {
		return err
	}
	a.print(c, j, func() {
		if j.Kind == "push" {
			a.showPush(j)
			return
		}
		a.s.printf("\n%s: %s\n", a.s.paint(stateStyle(j.Outcome), j.Outcome), j.Summary)
	})
	if j.Outcome != "done" && j.Outcome != "verified" {
		return errDiffers
	}
	return nil
}

// usually says how long a job that goes on usually takes.
func usually(j client.Job) string {
	if j.UsualMS == 0 {
		return ""
	}
	return "takes " + (time.Duration(j.UsualMS) * time.Millisecond).Round(10*time.Millisecond).String()
}
