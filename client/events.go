package client

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"io"
	"net/url"
	"strconv"
	"strings"
	"time"
)

// Watch follows a job to its end over server-sent events, calling seen for
// every line of its log and changed for every change of the job. Either may be
// nil. A connection that breaks is made again where it left off.
func (c *Client) Watch(ctx context.Context, id string, seen func(Entry), changed func(Job)) (Job, error) {
	after, broke := 0, 0
	for {
		j, err := c.watch(ctx, id, &after, seen, changed)
		if err == nil || ctx.Err() != nil {
			return j, err
		}
		var p *Problem
		if errors.As(err, &p) && p.Status < 500 {
			return j, err
		}
		if broke++; broke > 60 {
			return j, err
		}
		select {
		case <-time.After(min(time.Duration(broke)*200*time.Millisecond, 2*time.Second)):
		case <-ctx.Done():
			return j, ctx.Err()
		}
	}
}

func (c *Client) watch(ctx context.Context, id string, after *int, seen func(Entry), changed func(Job)) (j Job, err error) {
	res, err := c.send(ctx, "GET", "/jobs/"+url.PathEscape(id)+"/events", nil, nil, "Accept", "text/event-stream", "Last-Event-ID", strconv.Itoa(*after))
	if err != nil {
		return j, err
	}
	defer res.Body.Close()
	err = events(res.Body, func(event, data string) (done bool, err error) {
		switch event {
		case "log":
			var e Entry
			if err := json.Unmarshal([]byte(data), &e); err != nil {
				return false, err
			}
			*after = e.Seq
			if seen != nil {
				seen(e)
			}
		case "job":
			j = Job{}
			if err := json.Unmarshal([]byte(data), &j); err != nil {
				return false, err
			}
			if changed != nil {
				changed(j)
			}
			return j.State == "ended", nil
		}
		return false, nil
	})
	return j, err
}

// Events tells of what is written on the server, by anybody, until the context ends or
// the connection does.
func (c *Client) Events(ctx context.Context, told func([]Touched)) error {
	res, err := c.send(ctx, "GET", "/events", nil, nil, "Accept", "text/event-stream")
	if err != nil {
		return err
	}
	defer res.Body.Close()
	return events(res.Body, func(event, data string) (bool, error) {
		if event != "touched" {
			return false, nil
		}
		var all []Touched
		if err := json.Unmarshal([]byte(data), &all); err != nil {
			return false, err
		}
		told(all)
		return false, nil
	})
}

// events reads server-sent events, as the HTML standard's section 9.2 has them, until
// one is the last that is wanted.
func events(body io.Reader, got func(event, data string) (done bool, err error)) error {
	lines := bufio.NewScanner(body)
	lines.Buffer(nil, 64<<20)
	event, data := "", ""
	for lines.Scan() {
		line := lines.Text()
		switch {
		case strings.HasPrefix(line, "event:"):
			event = strings.TrimSpace(line[6:])
		case strings.HasPrefix(line, "data:"):
			data += strings.TrimPrefix(line[5:], " ")
		case line == "":
			if done, err := got(event, data); done || err != nil {
				return err
			}
			event, data = "", ""
		}
	}
	if err := lines.Err(); err != nil {
		return err
	}
	return io.ErrUnexpectedEOF
}
