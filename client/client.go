package client

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"mime"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"
)

// Client speaks to one service.
type Client struct {
	URL   string // like http://127.0.0.1:8080
	Token string
	HTTP  *http.Client // http.DefaultClient when nil
}

// IsStatus tells whether err is a problem with that HTTP status.
func IsStatus(err error, status int) bool {
	var p *Problem
	return errors.As(err, &p) && p.Status == status
}

func (c *Client) send(ctx context.Context, method, path string, query url.Values, body any, header ...string) (*http.Response, error) {
	base, err := url.Parse(c.URL)
	if err != nil || base.Scheme != "http" && base.Scheme != "https" || base.Host == "" {
		return nil, fmt.Errorf("%q is no address of a service; it looks like http://127.0.0.1:8080", c.URL)
	}
	u := strings.TrimSuffix(c.URL, "/") + "/api/v1" + path
	if len(query) > 0 {
		u += "?" + query.Encode()
	}
	var r io.Reader
	kind := "application/json"
	switch b := body.(type) {
	case nil:
	case []byte:
		r, kind = bytes.NewReader(b), "application/yaml"
	case io.Reader:
		r, kind = b, "application/octet-stream"
	default:
		raw, err := json.Marshal(body)
		if err != nil {
			return nil, err
		}
		r = bytes.NewReader(raw)
	}
	req, err := http.NewRequestWithContext(ctx, method, u, r)
	if err != nil {
		return nil, err
	}
	if r != nil {
		req.Header.Set("Content-Type", kind)
	}
	for i := 0; i+1 < len(header); i += 2 {
		req.Header.Set(header[i], header[i+1])
	}
	if c.Token != "" {
		req.Header.Set("Authorization", "Bearer "+c.Token)
	}
	h := c.HTTP
	if h == nil {
		h = http.DefaultClient
	}
	res, err := h.Do(req)
	if err != nil {
		var ue *url.Error
		if errors.As(err, &ue) {
			err = ue.Err
		}
		if errors.Is(ctx.Err(), context.Canceled) { // whoever asked has left: that says nothing of the service
			return nil, fmt.Errorf("left before the service at %s answered; what was asked for may go on, see: magpie job list (%w)", c.URL, context.Cause(ctx))
		}
		return nil, fmt.Errorf("the service at %s does not answer: %w", c.URL, err)
	}
	if res.StatusCode < 400 {
		return res, nil
	}
	defer res.Body.Close()
	raw, _ := io.ReadAll(io.LimitReader(res.Body, 1<<20))
	p := &Problem{Status: res.StatusCode}
	if json.Unmarshal(raw, p) != nil || p.Title == "" {
		p.Title, p.Detail = res.Status, strings.TrimSpace(string(raw))
	}
	return nil, p
}

func call[T any](c *Client, ctx context.Context, method, path string, query url.Values, body any, header ...string) (out T, err error) {
	res, err := c.send(ctx, method, path, query, body, header...)
	if err != nil {
		return out, err
	}
	defer res.Body.Close()
	if res.StatusCode == http.StatusNoContent {
		return out, nil
	}
	return out, json.NewDecoder(res.Body).Decode(&out)
}

func q(pairs ...string) url.Values {
	v := url.Values{}
	for i := 0; i+1 < len(pairs); i += 2 {
		if pairs[i+1] != "" {
			v.Set(pairs[i], pairs[i+1])
		}
	}
	return v
}

type none struct{}

// etag is a revision as If-Match takes it. One that is not known is sent all the
// same: the service then says what is wrong, as that nobody has that name.
func etag(revision int) string { return fmt.Sprintf("%q", strconv.Itoa(max(revision, 1))) }

// all gathers every page of a list.
func all[T any](c *Client, ctx context.Context, path string, query url.Values) (out []T, err error) {
	query = maps.Clone(query)
	if query == nil {
		query = url.Values{}
	}
	for {
		p, err := call[Page[T]](c, ctx, "GET", path, query, nil)
		if out = append(out, p.Items...); err != nil || p.Next == "" {
			return out, err
		}
		query.Set("cursor", p.Next)
	}
}

// Login signs in and returns a token.
func (c *Client) Login(ctx context.Context, l Login) (Granted, error) {
	return call[Granted](c, ctx, "POST", "/login", nil, l)
}

// SignOn tells who signs people in besides the service. It takes no token.
func (c *Client) SignOn(ctx context.Context) (SignOn, error) {
	return call[SignOn](c, ctx, "GET", "/sign-on", nil, nil)
}

// SetOwnPassword chooses another password; other sessions and tokens end.
func (c *Client) SetOwnPassword(ctx context.Context, p NewPassword) (Me, error) {
	return call[Me](c, ctx, "PUT", "/me/password", nil, p)
}

// MakeCodes makes a secret for one-time codes.
func (c *Client) MakeCodes(ctx context.Context) (Codes, error) {
	return call[Codes](c, ctx, "POST", "/me/codes", nil, nil)
}

// UseCodes has one's sign-ins take one-time codes; code is what the device shows now.
func (c *Client) UseCodes(ctx context.Context, code string) (RecoveryCodes, error) {
	return call[RecoveryCodes](c, ctx, "PUT", "/me/codes", nil, NewCodes{code})
}

// DropCodes has one's sign-ins take no codes any more.
func (c *Client) DropCodes(ctx context.Context, code string) error {
	_, err := call[none](c, ctx, "POST", "/me/codes/off", nil, NewCodes{code})
	return err
}

// AddToken makes a token for a program.
func (c *Client) AddToken(ctx context.Context, n NewToken) (MadeToken, error) {
	return call[MadeToken](c, ctx, "POST", "/tokens", nil, n)
}

// Me tells who is signed in.
func (c *Client) Me(ctx context.Context) (Me, error) { return call[Me](c, ctx, "GET", "/me", nil, nil) }

// Status tells how the fleet and the service are.
func (c *Client) Status(ctx context.Context) (Status, error) {
	return call[Status](c, ctx, "GET", "/status", nil, nil)
}

// Devices lists the devices a selector picks; all, without words.
func (c *Client) Devices(ctx context.Context, selector []string) ([]Device, error) {
	return all[Device](c, ctx, "/devices", selected(selector))
}

// Device returns one device.
func (c *Client) Device(ctx context.Context, name string) (Device, error) {
	return call[Device](c, ctx, "GET", "/devices/"+url.PathEscape(name), nil, nil)
}

// Probe asks an address for its host key or certificate over a transport
// (empty: SSH).
func (c *Client) Probe(ctx context.Context, transport, address string, port int) (Probe, error) {
	return c.ProbeThrough(ctx, "", transport, address, port)
}

// ProbeThrough does so through a relay.
func (c *Client) ProbeThrough(ctx context.Context, relay, transport, address string, port int) (Probe, error) {
	return call[Probe](c, ctx, "POST", "/probe", nil, Reach{Transport: transport, Address: address, Port: port, Relay: relay})
}

// Import adds many devices. Bad rows are no error; see Imported.
func (c *Client) Import(ctx context.Context, n NewDevices) (Imported, error) {
	return call[Imported](c, ctx, "POST", "/devices-import", nil, n)
}

// Export writes devices as a file that Import reads, csv or yaml.
func (c *Client) Export(ctx context.Context, selector []string, as string) (string, error) {
	return c.text(ctx, "/devices-export", q("selector", strings.Join(selector, " "), "as", as))
}

// ExportVersions takes versions out as files, as an archive that is written to w. Its last file
// is manifest.json; one without it was cut off. It returns the name that the service gives it.
func (c *Client) ExportVersions(ctx context.Context, n NewExport, w io.Writer) (name string, err error) {
	return c.received(ctx, "/exports", n, w)
}

// received writes what the service answers with to w; it returns the name that the service gives
// the file.
func (c *Client) received(ctx context.Context, path string, ask any, w io.Writer) (name string, err error) {
	res, err := c.send(ctx, "POST", path, nil, ask)
	if err != nil {
		return "", err
	}
	defer res.Body.Close()
	_, params, _ := mime.ParseMediaType(res.Header.Get("Content-Disposition"))
	if _, err := io.Copy(w, res.Body); err != nil {
		return params["filename"], fmt.Errorf("what the service sends was cut off: %w", err)
	}
	return params["filename"], nil
}

// ImportFile takes one file in as it comes, however large. by are words of the query of
// /version-file, like file, device, part, taken_at, name and note.
func (c *Client) ImportFile(ctx context.Context, by map[string]string, file io.Reader) (TakenIn, error) {
	v := url.Values{}
	for k, word := range by {
		if word != "" {
			v.Set(k, word)
		}
	}
	return call[TakenIn](c, ctx, "POST", "/version-file", v, file)
}

// DownloadTo writes a version's content to w as it is, however large.
func (c *Client) DownloadTo(ctx context.Context, ref string, w io.Writer) error {
	res, err := c.send(ctx, "GET", "/version/text", q("ref", ref), nil)
	if err != nil {
		return err
	}
	defer res.Body.Close()
	if _, err := io.Copy(w, res.Body); err != nil {
		return fmt.Errorf("what the service sends was cut off: %w", err)
	}
	return nil
}

// Worksheet lists the key facts of devices, html or csv.
func (c *Client) Worksheet(ctx context.Context, selector []string, as string) (string, error) {
	return c.text(ctx, "/worksheet", q("selector", strings.Join(selector, " "), "as", as))
}

// ImportVersions takes files in that were made elsewhere.
func (c *Client) ImportVersions(ctx context.Context, n NewImport) ([]TakenIn, error) {
	out, err := call[Page[TakenIn]](c, ctx, "POST", "/imports", nil, n)
	return out.Items, err
}

// Retentions lists for how long versions stay.
func (c *Client) Retentions(ctx context.Context) ([]Retention, error) {
	return all[Retention](c, ctx, "/retention", nil)
}

// SetRetention says for how long versions stay.
func (c *Client) SetRetention(ctx context.Context, name string, n NewRetention) (Retention, error) {
	return call[Retention](c, ctx, "PUT", "/retention/"+url.PathEscape(name), nil, n)
}

// RemoveRetention takes a policy away.
func (c *Client) RemoveRetention(ctx context.Context, name string) error {
	_, err := call[none](c, ctx, "DELETE", "/retention/"+url.PathEscape(name), nil, nil)
	return err
}

// PreviewRetention tells which versions would be deleted now.
func (c *Client) PreviewRetention(ctx context.Context, selector []string) (RetentionPreview, error) {
	return call[RetentionPreview](c, ctx, "GET", "/retention-preview", q("selector", strings.Join(selector, " ")), nil)
}

// Sweep has the service look what answers at addresses.
func (c *Client) Discover(ctx context.Context, n NewDiscovery) (Job, error) {
	return call[Job](c, ctx, "POST", "/discoveries", nil, n)
}

// Proposals lists what answered where no device is registered.
func (c *Client) Proposals(ctx context.Context) ([]Proposal, error) {
	return all[Proposal](c, ctx, "/proposals", nil)
}

// DismissProposal takes one off the list.
func (c *Client) DismissProposal(ctx context.Context, id string) error {
	_, err := call[none](c, ctx, "DELETE", "/proposals/"+url.PathEscape(id), nil, nil)
	return err
}

// CredentialSets lists the credential sets.
func (c *Client) CredentialSets(ctx context.Context) ([]CredentialSet, error) {
	return all[CredentialSet](c, ctx, "/credentials", nil)
}

// AddCredentialSet makes a credential set.
func (c *Client) AddCredentialSet(ctx context.Context, n NewCredentialSet) (CredentialSet, error) {
	return call[CredentialSet](c, ctx, "POST", "/credentials", nil, n)
}

// EditCredentialSet changes a credential set.
func (c *Client) EditCredentialSet(ctx context.Context, name string, n NewCredentialSet) (CredentialSet, error) {
	if n.Revision == 0 {
		all, err := c.CredentialSets(ctx)
		if err != nil {
			return CredentialSet{}, err
		}
		for _, s := range all {
			if s.Name == name {
				n.Revision = s.Revision
			}
		}
	}
	return call[CredentialSet](c, ctx, "PATCH", "/credentials/"+url.PathEscape(name), nil, n, "If-Match", etag(n.Revision))
}

// RemoveCredentialSet deletes a credential set that no device uses.
func (c *Client) RemoveCredentialSet(ctx context.Context, name string) error {
	_, err := call[none](c, ctx, "DELETE", "/credentials/"+url.PathEscape(name), nil, nil)
	return err
}

// AttachCredentialSet gives devices a set instead of what they had.
func (c *Client) AttachCredentialSet(ctx context.Context, name string, selector []string) (CredentialSet, error) {
	return call[CredentialSet](c, ctx, "POST", "/credentials/"+url.PathEscape(name)+"/attach", nil, map[string]any{"selector": selector})
}

// RetryCredentialSet lets a set be tried again, everywhere.
func (c *Client) RetryCredentialSet(ctx context.Context, name string) (CredentialSet, error) {
	return call[CredentialSet](c, ctx, "POST", "/credentials/"+url.PathEscape(name)+"/retry", nil, nil)
}

// LoadDialect takes a dialect file into use.
func (c *Client) LoadDialect(ctx context.Context, name, source string) (Dialect, error) {
	return call[Dialect](c, ctx, "POST", "/dialects", q("name", name), []byte(source))
}

// TryDialect runs a dialect file against a live device.
func (c *Client) TryDialect(ctx context.Context, t DialectTrial) (DialectTried, error) {
	return call[DialectTried](c, ctx, "POST", "/dialect-try", nil, t)
}

// Download returns a version's content as it is.
func (c *Client) Download(ctx context.Context, ref string) (string, error) {
	return c.text(ctx, "/version/text", q("ref", ref))
}

// text gets what is no JSON.
func (c *Client) text(ctx context.Context, path string, query url.Values) (string, error) {
	res, err := c.send(ctx, "GET", path, query, nil)
	if err != nil {
		return "", err
	}
	defer res.Body.Close()
	raw, err := io.ReadAll(res.Body)
	return string(raw), err
}

// Try signs in to a device that is not saved yet and asks who it is.
func (c *Client) Try(ctx context.Context, d NewDevice) (Tried, error) {
	return call[Tried](c, ctx, "POST", "/try", nil, d)
}

// AddDevice adds a device.
func (c *Client) AddDevice(ctx context.Context, d NewDevice) (Device, error) {
	return call[Device](c, ctx, "POST", "/devices", nil, d)
}

// EditDevice changes what is given of a device.
func (c *Client) EditDevice(ctx context.Context, name string, d NewDevice) (Device, error) {
	if d.Revision == 0 {
		now, err := c.Device(ctx, name)
		if err != nil {
			return now, err
		}
		d.Revision = now.Revision
	}
	return call[Device](c, ctx, "PATCH", "/devices/"+url.PathEscape(name), nil, d, "If-Match", etag(d.Revision))
}

// RemoveDevice removes a device.
func (c *Client) RemoveDevice(ctx context.Context, name string) error {
	_, err := call[none](c, ctx, "DELETE", "/devices/"+url.PathEscape(name), nil, nil)
	return err
}

// RemovedDevices lists the devices that were taken out and whose versions are here still.
func (c *Client) RemovedDevices(ctx context.Context) ([]RemovedDevice, error) {
	p, err := call[Page[RemovedDevice]](c, ctx, "GET", "/removed-devices", nil, nil)
	return p.Items, err
}

// ReinstateDevice brings one of them back, with its history.
func (c *Client) ReinstateDevice(ctx context.Context, name string, r Reinstate) (Device, error) {
	return call[Device](c, ctx, "POST", "/removed-devices/"+url.PathEscape(name)+"/reinstate", nil, r)
}

// Check asks for checks by themselves.
func (c *Client) Check(ctx context.Context, n NewCheck, key string) (Job, error) {
	return call[Job](c, ctx, "POST", "/checks", nil, n, "Idempotency-Key", key)
}

// CheckEndOf is what came of the checks of a job.
func CheckEndOf(j Job) (end CheckEnd, err error) {
	raw, err := json.Marshal(j.Result)
	if err == nil {
		err = json.Unmarshal(raw, &end)
	}
	return end, err
}

// RetryLogin lets a refused login be tried again.
func (c *Client) RetryLogin(ctx context.Context, name string) (Device, error) {
	return call[Device](c, ctx, "POST", "/devices/"+url.PathEscape(name)+"/retry-login", nil, nil)
}

// Pull asks for pulls of the devices a selector picks. One key makes one set of
// jobs, however often it is sent.
func (c *Client) Pull(ctx context.Context, selector []string, key string) ([]Job, error) {
	return c.PullAs(ctx, NewPull{Selector: selector}, key)
}

// PullAs pulls devices, and gives the versions a name and a note.
func (c *Client) PullAs(ctx context.Context, n NewPull, key string) ([]Job, error) {
	out, err := call[Page[Job]](c, ctx, "POST", "/pulls", nil, n, "Idempotency-Key", key)
	return out.Items, err
}

// Versions lists a part's versions, newest first.
func (c *Client) Versions(ctx context.Context, device, part string, before, limit int) ([]Version, error) {
	out, err := call[Page[Version]](c, ctx, "GET", "/devices/"+url.PathEscape(device)+"/versions", q("part", part, "cursor", positive(before), "limit", positive(limit)), nil)
	return out.Items, err
}

// selected is a selector as a list takes it. No words at all are left out, which
// lists everything; empty ones are sent, and refused.
func selected(words []string) url.Values {
	v := url.Values{}
	if len(words) > 0 {
		v.Set("selector", strings.Join(words, " "))
	}
	return v
}

func positive(n int) string {
	if n <= 0 {
		return ""
	}
	return strconv.Itoa(n)
}

// Text returns the text a reference names.
func (c *Client) Text(ctx context.Context, ref string) (Text, error) {
	return call[Text](c, ctx, "GET", "/version", q("ref", ref), nil)
}

// RemoveVersion deletes one version for good, for a reason.
func (c *Client) RemoveVersion(ctx context.Context, ref, reason string) (RemovedVersion, error) {
	return call[RemovedVersion](c, ctx, "DELETE", "/version", q("ref", ref, "reason", reason), nil)
}

// SetMark names, notes, pins a version or makes it the baseline.
func (c *Client) SetMark(ctx context.Context, ref string, m Mark) (Version, error) {
	return call[Version](c, ctx, "PATCH", "/version", q("ref", ref), m)
}

// Diff compares what two references name, with so many lines of context. Lines
// that only changed by themselves are left out unless all are wanted.
func (c *Client) Diff(ctx context.Context, from, to string, lines int, all bool) (Diff, error) {
	v := q("from", from, "to", to, "context", strconv.Itoa(lines))
	if all {
		v.Set("all", "true")
	}
	return call[Diff](c, ctx, "GET", "/diff", v, nil)
}

// DiffFile compares a version with a file that no service has. It takes the right to see secrets.
func (c *Client) DiffFile(ctx context.Context, n NewFileDiff) (Diff, error) {
	return call[Diff](c, ctx, "POST", "/file-diff", nil, n)
}

// Drift judges devices against their baselines.
func (c *Client) Drift(ctx context.Context, selector []string, live bool) ([]Drift, error) {
	v := selected(selector)
	v.Set("since", "true")
	if live {
		v.Set("live", "true")
	}
	return all[Drift](c, ctx, "/drift", v)
}

// DriftReport is a report of drift, html, csv or json, with what changed in a span of time.
func (c *Client) DriftReport(ctx context.Context, selector []string, as, since, until string) (string, error) {
	v := selected(selector)
	for k, x := range map[string]string{"as": as, "since": since, "until": until} {
		if x != "" {
			v.Set(k, x)
		}
	}
	return c.text(ctx, "/drift-report", v)
}

// Acknowledge says that what differs on devices is known, until a time.
func (c *Client) Acknowledge(ctx context.Context, n NewAcknowledgement) (Acknowledged, error) {
	return call[Acknowledged](c, ctx, "POST", "/acknowledgements", nil, n)
}

// Unacknowledge has acknowledged drift count again.
func (c *Client) Unacknowledge(ctx context.Context, selector []string) (Acknowledged, error) {
	return call[Acknowledged](c, ctx, "DELETE", "/acknowledgements", selected(selector), nil)
}

// Rules lists what people say of lines.
func (c *Client) Rules(ctx context.Context) ([]Rule, error) {
	return all[Rule](c, ctx, "/rules", nil)
}

// Rule returns a rule with the lines that it speaks of now.
func (c *Client) Rule(ctx context.Context, name string) (RuleFinds, error) {
	return call[RuleFinds](c, ctx, "GET", "/rules/"+url.PathEscape(name), nil, nil)
}

// SetRule says of lines that they do not count, have to be there, or must not.
func (c *Client) SetRule(ctx context.Context, name string, n NewRule) (Rule, error) {
	return call[Rule](c, ctx, "PUT", "/rules/"+url.PathEscape(name), nil, n)
}

// RemoveRule takes a rule away.
func (c *Client) RemoveRule(ctx context.Context, name string) error {
	_, err := call[none](c, ctx, "DELETE", "/rules/"+url.PathEscape(name), nil, nil)
	return err
}

// NewPreview asks what a push would do; the job's Preview names it when done.
func (c *Client) NewPreview(ctx context.Context, p NewPreview) (Job, error) {
	return call[Job](c, ctx, "POST", "/previews", nil, p)
}

// Preview returns a preview.
func (c *Client) Preview(ctx context.Context, id string) (Preview, error) {
	return call[Preview](c, ctx, "GET", "/previews/"+url.PathEscape(id), nil, nil)
}

// Push pushes what a preview shows.
func (c *Client) Push(ctx context.Context, p NewPush, key string) (Job, error) {
	return call[Job](c, ctx, "POST", "/pushes", nil, p, "Idempotency-Key", key)
}

// JobFilter narrows a list of jobs.
type JobFilter struct {
	State, Kind, Device, Cursor string
	PartOf                      string // the job that began them
	Outcome, Actor              string
	Since, Until                string // times
	Selector                    []string
	Limit                       int
}

// Jobs lists jobs, newest first.
func (c *Client) Jobs(ctx context.Context, f JobFilter) (Page[Job], error) {
	return call[Page[Job]](c, ctx, "GET", "/jobs", q("state", f.State, "kind", f.Kind, "device", f.Device, "part_of", f.PartOf, "outcome", f.Outcome, "actor", f.Actor, "since", f.Since, "until", f.Until, "selector", strings.Join(f.Selector, " "), "cursor", f.Cursor, "limit", positive(f.Limit)), nil)
}

// Repeat asks for a job like an earlier one.
func (c *Client) Repeat(ctx context.Context, id string, n NewRun, key string) (Job, error) {
	return call[Job](c, ctx, "POST", "/jobs/"+url.PathEscape(id)+"/repeat", nil, n, "Idempotency-Key", key)
}

// JobKinds lists the kinds of jobs that the service knows.
func (c *Client) JobKinds(ctx context.Context) ([]JobKind, error) {
	return all[JobKind](c, ctx, "/job-kinds", nil)
}

// Ask asks for a job by its kind's name. key, if not empty, makes it one however
// often it is sent.
func (c *Client) Ask(ctx context.Context, n NewJob, key string) (Job, error) {
	return call[Job](c, ctx, "POST", "/jobs", nil, n, "Idempotency-Key", key)
}

// Say says a word to a job that waits: confirm, undo, restart, approve, decline, or
// what else its kind takes. seen is what was looked at before, where that matters.
func (c *Client) Say(ctx context.Context, id, word, seen string) (Job, error) {
	return call[Job](c, ctx, "POST", "/jobs/"+url.PathEscape(id)+"/"+url.PathEscape(word), q("preview", seen), nil)
}

// Job returns one job.
func (c *Client) Job(ctx context.Context, id string) (Job, error) {
	return call[Job](c, ctx, "GET", "/jobs/"+url.PathEscape(id), nil, nil)
}

// EntriesAtOnce is how many entries of a job's log one answer has at most; whoever
// gets as many asks again, from after the last.
const EntriesAtOnce = 10000

// Log reads a job's log from after a sequence number to its end.
func (c *Client) Log(ctx context.Context, id string, after int) (all []Entry, err error) {
	for {
		some, err := call[Page[Entry]](c, ctx, "GET", "/jobs/"+url.PathEscape(id)+"/log", q("cursor", positive(after)), nil)
		if all = append(all, some.Items...); err != nil || some.Next == "" {
			return all, err
		}
		after = some.Items[len(some.Items)-1].Seq
	}
}

// Cancel asks a job to stop.
func (c *Client) Cancel(ctx context.Context, id string) (Job, error) {
	return call[Job](c, ctx, "POST", "/jobs/"+url.PathEscape(id)+"/cancel", nil, nil)
}

// Confirm keeps what a push that waits did.
func (c *Client) Confirm(ctx context.Context, id string) (Job, error) {
	return c.Say(ctx, id, "confirm", "")
}

// Undo undoes a push that waits, now.
func (c *Client) Undo(ctx context.Context, id string) (Job, error) {
	return c.Say(ctx, id, "undo", "")
}

// Restart restarts a device whose startup was written by a push that left the
// restart to later.
func (c *Client) Restart(ctx context.Context, id string) (Job, error) {
	return c.Say(ctx, id, "restart", "")
}

// Approve lets a planned push go ahead. preview is the one that was looked at.
func (c *Client) Approve(ctx context.Context, id, preview string) (Job, error) {
	return c.Say(ctx, id, "approve", preview)
}

// Decline calls a planned push off.
func (c *Client) Decline(ctx context.Context, id string) (Job, error) {
	return c.Say(ctx, id, "decline", "")
}

// Approvals lists to which devices nobody pushes alone.
func (c *Client) Approvals(ctx context.Context) ([]Approval, error) {
	return all[Approval](c, ctx, "/approvals", nil)
}

// AddApproval asks for a second person on the devices of a selector.
func (c *Client) AddApproval(ctx context.Context, selector []string) (Approval, error) {
	return call[Approval](c, ctx, "POST", "/approvals", nil, NewApproval{selector})
}

// RemoveApproval no longer asks for one.
func (c *Client) RemoveApproval(ctx context.Context, id string) error {
	_, err := call[none](c, ctx, "DELETE", "/approvals/"+url.PathEscape(id), nil, nil)
	return err
}

// Learn drafts the rules of a dialect, from versions, logs, and a device that things may
// be tried out at.
func (c *Client) Learn(ctx context.Context, dialect string, n NewLearn, key string) (Job, error) {
	return call[Job](c, ctx, "POST", "/dialects/"+url.PathEscape(dialect)+"/learn", nil, n, "Idempotency-Key", key)
}

// NewRestoreTest puts a version on another device of its family, proves it, and puts
// back what ran there.
func (c *Client) NewRestoreTest(ctx context.Context, d NewRestoreTest, key string) (Job, error) {
	return call[Job](c, ctx, "POST", "/restore-tests", nil, d, "Idempotency-Key", key)
}

// Snapshots lists named sets of versions, newest first.
func (c *Client) Snapshots(ctx context.Context) ([]Snapshot, error) {
	return all[Snapshot](c, ctx, "/snapshots", nil)
}

// Snapshot returns a named set with its versions.
func (c *Client) Snapshot(ctx context.Context, name string) (Snapshot, error) {
	return call[Snapshot](c, ctx, "GET", "/snapshots/"+url.PathEscape(name), nil, nil)
}

// AddSnapshot names a set of versions.
func (c *Client) AddSnapshot(ctx context.Context, n NewSnapshot) (Snapshot, error) {
	return call[Snapshot](c, ctx, "POST", "/snapshots", nil, n)
}

// CompareSnapshots compares a snapshot, or a time, with another, or with now.
func (c *Client) CompareSnapshots(ctx context.Context, from, to string) (MomentDiff, error) {
	return call[MomentDiff](c, ctx, "GET", "/snapshot-diff", q("from", from, "to", to), nil)
}

// RemoveSnapshot forgets a set; its versions stay.
func (c *Client) RemoveSnapshot(ctx context.Context, name string) error {
	_, err := call[none](c, ctx, "DELETE", "/snapshots/"+url.PathEscape(name), nil, nil)
	return err
}

// Schedules lists what is done by itself, by name.
func (c *Client) Schedules(ctx context.Context) ([]Schedule, error) {
	return all[Schedule](c, ctx, "/schedules", nil)
}

// Schedule returns one of them.
func (c *Client) Schedule(ctx context.Context, name string) (Schedule, error) {
	return call[Schedule](c, ctx, "GET", "/schedules/"+url.PathEscape(name), nil, nil)
}

// CheckSchedule returns what a schedule would be, and keeps nothing. was is its name, if
// it is there already.
func (c *Client) CheckSchedule(ctx context.Context, was string, n NewSchedule) (Schedule, error) {
	return call[Schedule](c, ctx, "POST", "/schedules/check", url.Values{"was": {was}}, n)
}

// AddSchedule keeps a new schedule.
func (c *Client) AddSchedule(ctx context.Context, n NewSchedule) (Schedule, error) {
	return call[Schedule](c, ctx, "POST", "/schedules", nil, n)
}

// EditSchedule puts another schedule in the place of one.
func (c *Client) EditSchedule(ctx context.Context, name string, n NewSchedule) (Schedule, error) {
	return call[Schedule](c, ctx, "PUT", "/schedules/"+url.PathEscape(name), nil, n)
}

// RemoveSchedule forgets a schedule; what it did stays.
func (c *Client) RemoveSchedule(ctx context.Context, name string) error {
	_, err := call[none](c, ctx, "DELETE", "/schedules/"+url.PathEscape(name), nil, nil)
	return err
}

// RunSchedule has a schedule done now, besides when it is due.
func (c *Client) RunSchedule(ctx context.Context, name string, n NewRun, key string) (Job, error) {
	return call[Job](c, ctx, "POST", "/schedules/"+url.PathEscape(name)+"/run", nil, n, "Idempotency-Key", key)
}

// PauseSchedule stops a schedule from being due, or has it be due again.
func (c *Client) PauseSchedule(ctx context.Context, name string, paused bool) (Schedule, error) {
	return call[Schedule](c, ctx, "POST", "/schedules/"+url.PathEscape(name)+map[bool]string{true: "/pause", false: "/resume"}[paused], nil, nil)
}

// Notice says that devices were changed; they are pulled once it is quiet about them.
func (c *Client) Notice(ctx context.Context, n NewNotice) error {
	_, err := call[none](c, ctx, "POST", "/change-triggers", nil, n)
	return err
}

// Agenda lists when schedules were due and will be, in order of time.
func (c *Client) Agenda(ctx context.Context, from, until time.Time) ([]AgendaItem, error) {
	return all[AgendaItem](c, ctx, "/agenda", url.Values{"from": {from.UTC().Format(time.RFC3339Nano)}, "until": {until.UTC().Format(time.RFC3339Nano)}})
}

// BootstrapSheet says what a person types at a unit's console so that the service can
// reach it.
func (c *Client) BootstrapSheet(ctx context.Context, ref string, secrets bool) (BootstrapSheet, error) {
	with := ""
	if secrets {
		with = "true"
	}
	return call[BootstrapSheet](c, ctx, "GET", "/bootstrap-sheet", q("ref", ref, "secrets", with), nil)
}

// Swaps lists the hardware that took a device's place, newest first.
func (c *Client) Swaps(ctx context.Context, device string) ([]Swap, error) {
	return all[Swap](c, ctx, "/devices/"+url.PathEscape(device)+"/swaps", nil)
}

// Edit keeps a text made of a version as another version.
func (c *Client) Edit(ctx context.Context, v NewVersion) (Version, error) {
	return call[Version](c, ctx, "POST", "/versions", nil, v)
}

// NewRestorePreview looks what putting many devices back would take.
func (c *Client) NewRestorePreview(ctx context.Context, n NewRestorePreview) (Job, error) {
	return call[Job](c, ctx, "POST", "/restore-previews", nil, n)
}

// NewRestore pushes what a restore preview shows. key, if not empty, makes it one however
// often it is asked for.
func (c *Client) NewRestore(ctx context.Context, n NewRestore, key string) (Job, error) {
	return call[Job](c, ctx, "POST", "/restores", nil, n, "Idempotency-Key", key)
}

// Dialects lists the dialects.
func (c *Client) Dialects(ctx context.Context) ([]Dialect, error) {
	return all[Dialect](c, ctx, "/dialects", nil)
}

// Dialect returns one dialect with its source.
func (c *Client) Dialect(ctx context.Context, name string) (Dialect, error) {
	return call[Dialect](c, ctx, "GET", "/dialects/"+url.PathEscape(name), nil, nil)
}

// CheckDialect checks a dialect file and returns what is wrong in it.
func (c *Client) CheckDialect(ctx context.Context, name string, source []byte) ([]DialectProblem, error) {
	out, err := call[Page[DialectProblem]](c, ctx, "POST", "/dialect-check", q("name", name), source)
	return out.Items, err
}

// Users lists the users.
func (c *Client) Users(ctx context.Context) ([]User, error) {
	return all[User](c, ctx, "/users", nil)
}

// AddUser adds a user.
func (c *Client) AddUser(ctx context.Context, u NewUser) (User, error) {
	return call[User](c, ctx, "POST", "/users", nil, u)
}

// EditUser changes what is given of a user.
func (c *Client) EditUser(ctx context.Context, name string, u NewUser) (User, error) {
	if u.Revision == 0 {
		all, err := c.Users(ctx)
		if err != nil {
			return User{}, err
		}
		for _, x := range all {
			if x.Name == name {
				u.Revision = x.Revision
			}
		}
	}
	return call[User](c, ctx, "PATCH", "/users/"+url.PathEscape(name), nil, u, "If-Match", etag(u.Revision))
}

// Tokens lists one's own tokens.
func (c *Client) Tokens(ctx context.Context) ([]Token, error) {
	return all[Token](c, ctx, "/tokens", nil)
}

// DropToken ends one of one's own tokens.
func (c *Client) DropToken(ctx context.Context, id string) error {
	_, err := call[none](c, ctx, "DELETE", "/tokens/"+url.PathEscape(id), nil, nil)
	return err
}

// Audit lists the audit log, newest first, from before a sequence number.
func (c *Client) Audit(ctx context.Context, f AuditFilter, before int64, limit int) (Page[AuditEntry], error) {
	return call[Page[AuditEntry]](c, ctx, "GET", "/audit", q("about", f.About, "actor", f.Actor, "since", f.Since, "cursor", positive(int(before)), "limit", positive(limit)), nil)
}

// AuditFilter narrows the audit log; what is empty narrows nothing.
type AuditFilter struct {
	About string // a device with its versions, a user, a set…
	Actor string
	Since string // a time
}

// Changes lists the versions that were taken since a time (empty: in the last week),
// newest first, of the devices that a selector picks.
func (c *Client) Changes(ctx context.Context, selector []string, since, cursor string, limit int) (Page[Version], error) {
	return call[Page[Version]](c, ctx, "GET", "/changes", q("selector", strings.Join(selector, " "), "since", since, "cursor", cursor, "limit", positive(limit)), nil)
}

// FindVersions lists the versions of the devices that a selector picks by what is known of them,
// newest first: by are words of the query of /changes, like name, note, by, reason, serial,
// release, since, until, find, cursor and limit.
func (c *Client) FindVersions(ctx context.Context, selector []string, by map[string]string) (Page[Version], error) {
	v := q("selector", strings.Join(selector, " "))
	for k, word := range by {
		if word != "" {
			v.Set(k, word)
		}
	}
	return call[Page[Version]](c, ctx, "GET", "/changes", v, nil)
}

// Tag puts tags on devices and takes others off; it returns those that changed.
func (c *Client) Tag(ctx context.Context, n NewTags) (Page[Device], error) {
	return call[Page[Device]](c, ctx, "POST", "/tags", nil, n)
}

// Baselines approves a version of each of many devices.
func (c *Client) Baselines(ctx context.Context, n NewBaselines) (Baselined, error) {
	return call[Baselined](c, ctx, "POST", "/baselines", nil, n)
}

// Sessions lists the browsers that are signed in: one's own; for an admin everybody's.
func (c *Client) Sessions(ctx context.Context) ([]Session, error) {
	return all[Session](c, ctx, "/sessions", nil)
}

// EndSession ends one of them.
func (c *Client) EndSession(ctx context.Context, id string) error {
	_, err := call[none](c, ctx, "DELETE", "/sessions/"+url.PathEscape(id), nil, nil)
	return err
}

// EndSessions ends all sessions of a user (empty: one's own) but the one that asks.
func (c *Client) EndSessions(ctx context.Context, user string) error {
	_, err := call[none](c, ctx, "DELETE", "/sessions", q("user", user), nil)
	return err
}

// CheckAudit tells whether the audit log is as it was written. end is a row's number and code
// as kept elsewhere, like 1204:9f3c…; empty: none.
func (c *Client) CheckAudit(ctx context.Context, end string) (AuditCheck, error) {
	q := url.Values{}
	if end != "" {
		q.Set("end", end)
	}
	return call[AuditCheck](c, ctx, "GET", "/audit-check", q, nil)
}

// CloseRelay ends a relay.
func (c *Client) CloseRelay(ctx context.Context, id string) error {
	_, err := call[none](c, ctx, "DELETE", "/relays/"+url.PathEscape(id), nil, nil)
	return err
}

// Logout ends the token or session that is used.
func (c *Client) Logout(ctx context.Context) error {
	_, err := call[none](c, ctx, "DELETE", "/session", nil, nil)
	return err
}
