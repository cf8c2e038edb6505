package link_test

import (
	"context"
	"errors"
	"fmt"
	"testing"
	"time"

	"magpie/internal/link"
)

// TestHear: a session that is only for hearing tells who changed the device, in whatever
// framing and style, and ends when it is told to or the device goes away.
func TestHear(t *testing.T) {
	for style := range 4 {
		t.Run(fmt.Sprint("style ", style), func(t *testing.T) {
			t.Parallel()
			d, target := newHeron(t, style)
			ctx, cancel := context.WithCancel(context.Background())
			defer cancel()
			ready, users, ended := make(chan bool, 1), make(chan string, 10), make(chan error, 1)
			go func() {
				ended <- link.Hear(ctx, called(t, link.Call{Dialect: shipped(t, "heron"), Target: target}), func() { ready <- true }, func(user string) { users <- user })
			}()
			next := func() string {
				t.Helper()
				select {
				case u := <-users:
					return u
				case err := <-ended:
					t.Fatalf("it ended: %v", err)
				case <-time.After(20 * time.Second):
					t.Fatal("nothing is heard")
				}
				return ""
			}
			select {
			case <-ready:
			case err := <-ended:
				t.Fatal(err)
			}
			for _, by := range []string{"mwilks", "okonkwo"} {
				if err := d.Amend(by, []string{`<interfaces xmlns="urn:ietf:params:xml:ns:yang:ietf-interfaces"><interface><name>outside</name><description>by ` + by + `</description></interface></interfaces>`}); err != nil {
					t.Fatal(err)
				}
				if got := next(); got != by {
					t.Errorf("%s changed it, heard is %q", by, got)
				}
			}
			cancel()
			if err := <-ended; !errors.Is(err, context.Canceled) {
				t.Errorf("it ended with %v", err)
			}
		})
	}
}
