package e2e

import (
	"encoding/json"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"

	"magpie/client"
)

// TestEverySizeIsTaken: every text and list that an operation takes is sent with one character, with as many as are
// usual, and with as many as it says are the most; none of these is too long, and one more is. What is a file or a text
// by its nature takes a usual one.
func TestEverySizeIsTaken(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 1)
	most := regexp.MustCompile(`(?:more than|at most) (\d+) (characters|bytes|can be sent)`)
	tried := 0
	for _, op := range w.operations() {
		if op.RequestBody == nil || op.RequestBody.Value.Content["application/json"] == nil || op.path == "/session" {
			continue
		}
		send := func(name string, v any) (got int, bound int) {
			raw, err := json.Marshal(map[string]any{name: v})
			if err != nil {
				t.Fatal(err)
			}
			got, said := w.call(op.method, nowhere(op.path), w.admin.Token, raw, "If-Match", `"1"`, "Origin", w.url)
			if got >= 500 {
				t.Errorf("%s %s: %s: %d %.300s", op.method, op.path, name, got, said)
			}
			var p client.Problem
			_ = json.Unmarshal([]byte(said), &p)
			if m := most.FindStringSubmatch(p.Detail); m != nil && strings.HasPrefix(p.Field, name) {
				bound, _ = strconv.Atoi(m[1])
			}
			return got, bound
		}
		for name, prop := range op.RequestBody.Value.Content["application/json"].Schema.Value.Properties {
			of := func(n int) any { return strings.Repeat("x", n) }
			switch {
			case prop.Value.Type.Is("array") && prop.Value.Items.Value.Type.Is("string"):
				of = func(n int) any {
					all := make([]string, n)
					for i := range all {
						all[i] = fmt.Sprint("x", i)
					}
					return all
				}
			case !prop.Value.Type.Is("string") || prop.Value.Format != "" || len(prop.Value.Enum) > 0:
				continue
			}
			tried++
			usual := 60
			if slices.Contains([]string{"text", "content", "source"}, name) {
				usual = 200_000
			}
			for _, n := range []int{1, usual} {
				if _, bound := send(name, of(n)); bound > 0 {
					t.Errorf("%s %s: %s of %d is more than %d", op.method, op.path, name, n, bound)
				}
			}
			_, bound := send(name, of(6000))
			for bound > 0 { // its own may be tighter than that of all texts, which is looked at first
				_, again := send(name, of(bound))
				if again == 0 {
					break
				}
				if again >= bound {
					t.Errorf("%s %s: %s may have %d, and with as many it is more than %d", op.method, op.path, name, bound, again)
					break
				}
				bound = again
			}
			if _, again := send(name, of(bound+1)); bound > 0 && again != bound {
				t.Errorf("%s %s: %s may have %d, and one more is taken", op.method, op.path, name, bound)
			}
		}
	}
	if tried < 100 {
		t.Errorf("only %d texts and lists were tried", tried)
	}
}

// TestKeptSelectors: a selector that is kept is taken at every size, wherever one is kept, and what goes by it still does.
func TestKeptSelectors(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 1)
	w.pull(r1)
	w.addUser("ops", "operator")
	must(w.admin.AddRecipient(ctx(t), client.NewRecipient{Name: "desk", Kind: "syslog", Address: "127.0.0.1:6514"}))(t)
	keepers := map[string]func(name string, of []string) error{
		"snapshot": func(name string, of []string) error {
			x, err := w.admin.AddSnapshot(ctx(t), client.NewSnapshot{Name: name, Selector: of})
			if err == nil && x.Count != 2 { // running and startup
				err = fmt.Errorf("%d versions", x.Count)
			}
			return err
		},
		"schedule": func(name string, of []string) error {
			x, err := w.admin.AddSchedule(ctx(t), client.NewSchedule{Name: name, Rule: "daily 03:00", Zone: "UTC", Deeds: []client.Deed{{Kind: "pull"}}, Selector: of})
			if err == nil && x.Devices != 1 {
				err = fmt.Errorf("%d devices", x.Devices)
			}
			return err
		},
		"notification rule": func(name string, of []string) error {
			x, err := w.admin.AddNotificationRule(ctx(t), client.NewNotificationRule{Name: name, Events: []string{"changed"}, Selector: of, Recipients: []string{"desk"}})
			if err == nil && x.Devices != 1 {
				err = fmt.Errorf("%d devices", x.Devices)
			}
			return err
		},
		"drift rule": func(name string, of []string) error {
			_, err := w.admin.SetRule(ctx(t), name, client.NewRule{Kind: "forbidden", Path: "lane {name}", Selector: of})
			return err
		},
		"retention": func(name string, of []string) error {
			_, err := w.admin.SetRetention(ctx(t), name, client.NewRetention{Selector: of, Newest: 10})
			return err
		},
		"approval": func(_ string, of []string) error {
			a, err := w.admin.AddApproval(ctx(t), of)
			if err != nil {
				return err
			}
			if _, err := w.admin.AddApproval(ctx(t), of); err == nil {
				return errors.New("the same stands there twice")
			}
			return w.admin.RemoveApproval(ctx(t), a.ID)
		},
		"scope": func(_ string, of []string) error {
			u, err := w.admin.EditUser(ctx(t), "ops", client.NewUser{Scope: &of})
			if err == nil && len(u.Scope) != len(of) {
				err = fmt.Errorf("%d words", len(u.Scope))
			}
			return err
		},
	}
	for what, keep := range keepers {
		for i, n := range []int{1, 60, 5000} {
			if err := keep(fmt.Sprint("size", i), slices.Repeat([]string{r1}, n)); err != nil {
				t.Errorf("a %s of %d words: %v", what, n, err)
			}
		}
		err := keep("too-long", slices.Repeat([]string{strings.Repeat("*", 12) + r1}, 5000))
		if err == nil || !strings.Contains(err.Error(), "more than 100000 characters") {
			t.Errorf("a %s of 130,000 characters: %v", what, err)
		}
	}
	if out, _, _ := w.cli("schedule", "list"); len(out) > 20_000 {
		t.Errorf("the schedules are listed with %d characters", len(out))
	}
}
