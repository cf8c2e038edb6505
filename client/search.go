package client

import (
	"context"
	"strings"
)

// Find searches what runs now, a page at a time; cursor is the end of the page before.
func (c *Client) Find(ctx context.Context, s Search, cursor string, limit int) (SearchPage, error) {
	v := q("line", s.Line, "in", s.In, "lacks", s.Lacks, "part", s.Part, "cursor", cursor, "limit", positive(limit), "selector", strings.Join(s.Selector, " "))
	for name, is := range map[string]bool{"regexp": s.Regexp, "all_parts": s.AllParts, "secrets": s.Secrets, "since": s.Since} {
		if is {
			v.Set(name, "true")
		}
	}
	return call[SearchPage](c, ctx, "GET", "/search", v, nil)
}

// Origins tells of each line of a version which version brought it in.
func (c *Client) Origins(ctx context.Context, ref string) ([]LineOrigin, error) {
	return all[LineOrigin](c, ctx, "/origins", q("ref", ref))
}

// Together lists what changed in a span of time, what hit several devices alike as one.
func (c *Client) Together(ctx context.Context, selector []string, since, until string) (TogetherPage, error) {
	return call[TogetherPage](c, ctx, "GET", "/fleet-changes", q("selector", strings.Join(selector, " "), "since", since, "until", until), nil)
}
