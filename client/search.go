package client

import (
	"context"
	"net/url"
	"strings"
)

// Find searches what runs now, a page at a time; cursor is the end of the page before.
func (c *Client) Find(ctx context.Context, s Search, cursor string, limit int) (SearchPage, error) {
	return call[SearchPage](c, ctx, "GET", "/search", s.words(cursor, limit), nil)
}

// FindPast searches all versions, a few seconds at a time; cursor is where the page before ended.
func (c *Client) FindPast(ctx context.Context, s Search, cursor string, limit int) (PastPage, error) {
	s.Since = false
	return call[PastPage](c, ctx, "GET", "/history-search", s.words(cursor, limit), nil)
}

func (s Search) words(cursor string, limit int) url.Values {
	v := q("line", s.Line, "in", s.In, "lacks", s.Lacks, "part", s.Part, "cursor", cursor, "limit", positive(limit), "selector", strings.Join(s.Selector, " "))
	for name, is := range map[string]bool{"regexp": s.Regexp, "all_parts": s.AllParts, "secrets": s.Secrets, "since": s.Since} {
		if is {
			v.Set(name, "true")
		}
	}
	return v
}

// Searches lists the searches that are kept.
func (c *Client) Searches(ctx context.Context) ([]SavedSearch, error) {
	return all[SavedSearch](c, ctx, "/searches", nil)
}

// SaveSearch keeps a search by a name.
func (c *Client) SaveSearch(ctx context.Context, name string, n NewSearch) (SavedSearch, error) {
	return call[SavedSearch](c, ctx, "PUT", "/searches/"+url.PathEscape(name), nil, n)
}

// ForgetSearch forgets one.
func (c *Client) ForgetSearch(ctx context.Context, name string) error {
	_, err := call[none](c, ctx, "DELETE", "/searches/"+url.PathEscape(name), nil, nil)
	return err
}

// Distances tells how far each earlier version is from one.
func (c *Client) Distances(ctx context.Context, ref string) ([]Distance, error) {
	return all[Distance](c, ctx, "/distances", q("ref", ref))
}

// Origins tells of each line of a version which version brought it in.
func (c *Client) Origins(ctx context.Context, ref string) ([]LineOrigin, error) {
	return all[LineOrigin](c, ctx, "/annotations", q("ref", ref))
}

// Together lists what changed in a span of time, what hit several devices alike as one.
func (c *Client) Together(ctx context.Context, selector []string, since, until string) (TogetherPage, error) {
	return call[TogetherPage](c, ctx, "GET", "/fleet-changes", q("selector", strings.Join(selector, " "), "since", since, "until", until), nil)
}
