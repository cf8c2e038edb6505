// Command kettle is the program with one kind of job more, registered in one call:
// making tea. A test asks for it through API, command line and console.
package main

import (
	"context"
	"encoding/json"
	"fmt"
	"os"

	"magpie/internal/cli"
	"magpie/internal/core"
	"magpie/internal/job"
	"magpie/internal/run"
	"magpie/internal/store"
)

// Tea is what a kettle is asked for, and what it led to.
type Tea struct {
	Cups   string `json:"cups"`
	Crash  string `json:"crash,omitempty"`
	Blend  string `json:"blend,omitempty"` // secret
	Lines  int    `json:"lines,omitempty"` // what it says of the boiling
	Poured bool   `json:"poured"`
}

func main() {
	run.Also(job.Kind{Name: "kettle", Role: core.Operator, Does: "makes tea",
		Awaits: []job.Wait{{For: "the word", Means: "somebody who takes tea", Words: []job.Word{{Say: "pour", Does: "Pour it"}, {Say: "tip", Does: "Tip it out"}}}},
		Asks: func(_ context.Context, _ core.Actor, _ core.Job, with []byte) (any, error) {
			var t Tea
			if err := json.Unmarshal(with, &t); err != nil || t.Cups == "" {
				return nil, fmt.Errorf("%w without saying how many cups: cups=N", job.ErrKind)
			}
			return t, nil
		},
		Step: func(_ context.Context, r *job.Run) {
			var t Tea
			if err := r.Store.As(job.Service).OpenRequest(r.Job, &t); err != nil {
				r.End(r.Job, r.Log, core.Failed, err.Error(), nil)
				return
			}
			switch {
			case t.Crash != "" && r.Job.Tries == 1:
				r.Step("boiling over")
				r.Close()
				os.Exit(3)
			case r.Job.Cancel:
				r.End(r.Job, r.Log, core.Cancelled, "taken off the stove", t)
			case r.Job.Decision == "pour":
				t.Poured = true
				r.End(r.Job, r.Log, core.Done, t.Cups+" cups for "+r.Job.DecidedBy, t)
			case r.Job.Decision == "tip":
				r.End(r.Job, r.Log, core.Failed, "tipped out", t)
			default:
				r.Step("it boils")
				for i := range t.Lines {
					r.Step("bubble %d", i+1)
				}
				r.Park("the word", nil, "the tea is ready", t)
			}
		},
		View: func(_ context.Context, q *store.Q, actor core.Actor, j core.Job) (any, error) {
			var t Tea
			err := q.OpenResult(j, &t)
			if !actor.Secrets {
				t.Blend = "hidden"
			}
			return t, err
		},
	})
	os.Exit(cli.Main(os.Args))
}
