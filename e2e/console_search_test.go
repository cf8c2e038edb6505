package e2e

import (
	"fmt"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
)

// TestConsoleSearch: in the browser, which devices have a line, since when; the search is kept by a name;
// what changed, and on how many devices alike.
func TestConsoleSearch(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 2)
	other := w.fleet.places[1].Name
	for _, name := range []string{r1, other} {
		w.pull(name)
		w.fleet.amend(name, "mwilks", "clock", "mark 192.0.2.99")
		w.pull(name)
	}
	b := newBrowser(t, w.url)
	b.signIn("admin", w.firstPassword())
	b.open("/search")
	b.see("Say what to look for")
	b.do(chromedp.SendKeys(`input[name="line"]`, "192.0.2.99", often), clickIn("Search"))
	b.see("2 hits on 2 devices")
	b.see("mark 192.0.2.99")
	b.see(", mwilks")
	b.do(clickIn("Save it"), chromedp.SendKeys(`input[name="search-name"]`, "old time server", often), clickIn("Save"))
	b.see("Forget “old time server”")
	b.open("/search")
	b.see("Say what to look for")
	b.do(clickIn("Saved searches ▾"), chromedp.Click(`//*[@role="menuitem"][contains(., "old time server")]`, often))
	b.see("2 hits on 2 devices")
	b.do(chromedp.Click(`a[aria-label="line `+lineOf(w, other, "mark 192.0.2.99")+` of `+other+`@2"]`, often))
	b.see("Where it comes from")
	if at := b.at(); !strings.Contains(at, "#L") {
		t.Errorf("a hit leads to %s", at)
	}
	b.open("/search?tab=lines&in=lane&lacks=sieve&selector=" + other)
	b.see("lane quay1")
	b.allows("status of 400")
	b.open("/search?tab=lines&line=(&regexp=true")
	b.see("missing closing )")
	b.open("/search?tab=lines&line=note&history=true")
	b.see("found in")
	b.see("or earlier")
	b.open("/search?tab=changes")
	b.see("2 devices alike")
	b.see("in clock")
	b.do(chromedp.Click(`g[role=button][aria-label^="2 devices alike"]`, often))
}

// lineOf is the number of a line of a device's newest text.
func lineOf(w *world, device, words string) string {
	w.t.Helper()
	for _, l := range must(w.admin.Origins(ctx(w.t), device))(w.t) {
		if strings.Contains(l.Text, words) {
			return fmt.Sprint(l.Line)
		}
	}
	w.t.Fatalf("%s has no line %q", device, words)
	return ""
}
