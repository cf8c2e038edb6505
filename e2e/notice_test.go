package e2e

import (
	"fmt"
	"io"
	"net"
	"net/http"
	"strings"
	"testing"
	"time"

	"magpie/client"
	"magpie/internal/run"
	"magpie/internal/sim/tern"
)

// TestChangeNotices: a device that says by syslog that it was changed is pulled once it is
// quiet about it, by UDP and by TCP, in either form; a storm costs one pull; who is no
// device of ours is counted.
func TestChangeNotices(t *testing.T) {
	t.Parallel()
	port := must(run.FreePort())(t)
	w := newWorld(t, 2, func(w *world) { w.extra = append(w.extra, "--syslog", fmt.Sprintf("127.0.0.1:%d", port)) })
	names := []string{w.fleet.places[0].Name, w.fleet.places[1].Name}
	for _, n := range names {
		w.pull(n)
	}
	dial := func(network, from string) net.Conn {
		t.Helper()
		var local net.Addr = &net.UDPAddr{IP: net.ParseIP(from)}
		if network == "tcp" {
			local = &net.TCPAddr{IP: net.ParseIP(from)}
		}
		c, err := (&net.Dialer{LocalAddr: local}).Dial(network, fmt.Sprintf("127.0.0.1:%d", port))
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { c.Close() })
		return c
	}
	heard := func(what string) (n int) {
		t.Helper()
		res := must(http.Get(w.url + "/metrics"))(t)
		defer res.Body.Close()
		for _, l := range strings.Split(string(must(io.ReadAll(res.Body))(t)), "\n") {
			if rest, ok := strings.CutPrefix(l, `magpie_syslog_messages_total{what="`+what+`"} `); ok {
				fmt.Sscan(rest, &n)
			}
		}
		return n
	}
	quiet := func() {
		w.sql("UPDATE notices SET first_at = first_at - INTERVAL 40 SECOND, last_at = last_at - INTERVAL 40 SECOND")
	}
	noticed := func(device string) []client.Job {
		return must(w.admin.Jobs(ctx(t), client.JobFilter{Actor: "change notice", Device: device}))(t).Items
	}

	w.fleet.amend(names[0], "mwilks", "lane quay1", `note "on the quay"`)
	udp := dial("udp", w.fleet.places[0].Address)
	for range 500 {
		fmt.Fprintf(udp, "<190>1 2026-11-26T10:00:00Z %s chart - - - amended by mwilks from seat 3", names[0])
	}
	fmt.Fprintf(udp, "<190>1 2026-11-26T10:00:00Z %s lanes - - - quay1 is up", names[0])
	fmt.Fprint(dial("udp", "127.0.0.1"), "<190>1 2026-11-26T10:00:00Z nobody chart - - - amended by nobody")
	eventually(t, "all are heard", func() bool { return heard("notice") > 400 && heard("other") == 1 && heard("unknown sender") == 1 })
	if n := len(noticed(names[0])); n != 0 {
		t.Errorf("%d pulls while it is not quiet", n)
	}
	time.Sleep(1200 * time.Millisecond) // what came within the second after the first is written down
	quiet()
	eventually(t, "it is pulled", func() bool { j := noticed(names[0]); return len(j) == 1 && j[0].State == "ended" })
	if v := w.versions(names[0])[0]; v.Number != 2 || v.Reason != "change notice" || v.Author != "mwilks" {
		t.Errorf("%+v", v)
	}

	// By TCP, counted and by lines; the device is away meanwhile, and says who itself.
	tcp := dial("tcp", w.fleet.places[1].Address)
	old := "<190>Nov 26 10:00:00 " + names[1] + " chart: stowed by okonkwo"
	fmt.Fprintf(tcp, "%d %s%s\n", len(old), old, old)
	eventually(t, "it is noted", func() bool { return heard("notice") > 401 })
	time.Sleep(1200 * time.Millisecond) // as above
	quiet()
	eventually(t, "it is pulled", func() bool { j := noticed(names[1]); return len(j) == 1 && j[0].State == "ended" })
	if n := len(w.versions(names[1])); n != 1 {
		t.Errorf("nothing changed, and there are %d versions", n)
	}

	// Said by a program; and the service dies before it is quiet.
	if out, said, status := w.cli("notice", names[1], "--author", "okonkwo"); status != 0 {
		t.Errorf("status %d: %s%s", status, out, said)
	}
	if _, said, status := w.cli("notice", "nosuch"); status != 2 || !strings.Contains(said, "nosuch") {
		t.Errorf("status %d: %s", status, said)
	}
	w.fleet.faults(names[1], tern.Faults{})
	w.kill()
	w.serve()
	quiet()
	eventually(t, "it is pulled after the service died", func() bool { return len(noticed(names[1])) == 2 })
}
