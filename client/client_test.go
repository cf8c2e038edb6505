package client

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"
)

// TestWatchTakesUpWhereItLeftOff: a stream that breaks is opened again after the
// last line seen, and no line is seen twice.
func TestWatchTakesUpWhereItLeftOff(t *testing.T) {
	calls := 0
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		calls++
		var after int
		_, _ = fmt.Sscan(r.Header.Get("Last-Event-ID"), &after)
		w.Header().Set("Content-Type", "text/event-stream")
		for seq := after + 1; seq <= min(after+3, 8); seq++ {
			raw, _ := json.Marshal(Entry{Seq: seq, Kind: "info", Text: "line"})
			fmt.Fprintf(w, "event: log\nid: %d\ndata: %s\n\n: a remark\n\n", seq, raw)
		}
		state := "running"
		if after+3 >= 8 {
			state = "ended"
		}
		raw, _ := json.Marshal(Job{ID: "j", State: state})
		fmt.Fprintf(w, "event: job\ndata: %s\n\n", raw)
	}))
	defer s.Close()
	var seen []int
	ctx, cancel := context.WithTimeout(context.Background(), 20*time.Second)
	defer cancel()
	j, err := (&Client{URL: s.URL}).Watch(ctx, "j", func(e Entry) { seen = append(seen, e.Seq) }, nil)
	if err != nil || j.State != "ended" || fmt.Sprint(seen) != "[1 2 3 4 5 6 7 8]" || calls != 3 {
		t.Errorf("%+v, %v, saw %v in %d calls", j, err, seen, calls)
	}
}

// TestErrorsAsTheServiceWordsThem, and what is no problem document.
func TestErrorsAsTheServiceWordsThem(t *testing.T) {
	answer, status := "", 0
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		w.WriteHeader(status)
		fmt.Fprint(w, answer)
	}))
	defer s.Close()
	c := &Client{URL: s.URL + "/"}
	for _, x := range []struct {
		status int
		answer string
		says   string
	}{
		{409, `{"type":"about:blank","title":"taken","status":409,"detail":"r1 is in use","next":"choose another"}`, "r1 is in use\nchoose another"},
		{403, `{"title":"not allowed","status":403}`, "not allowed"},
		{502, "<html>a proxy's own words</html>", "a proxy's own words"},
	} {
		answer, status = x.answer, x.status
		_, err := c.Devices(context.Background(), nil)
		var p *Problem
		if !errors.As(err, &p) || p.Status != x.status || !strings.Contains(err.Error(), x.says) || !IsStatus(err, x.status) {
			t.Errorf("%d %s: %v", x.status, x.answer, err)
		}
	}
	for _, url := range []string{"", "nowhere", "ftp://x", "http://"} {
		if _, err := (&Client{URL: url}).Me(context.Background()); err == nil || !strings.Contains(err.Error(), "is no address of a service") {
			t.Errorf("%q: %v", url, err)
		}
	}
	if _, err := (&Client{URL: "http://127.0.0.1:1"}).Me(context.Background()); err == nil || !strings.Contains(err.Error(), "does not answer") {
		t.Errorf("nobody there: %v", err)
	}
}
