package client

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"koinos/api"
	"koinos/core/drafting"
	"koinos/core/finding"
	"koinos/core/list"
	"koinos/core/outcome"
	"koinos/core/reading"
)

// Client calls a Koinos service.
type Client struct {
	base  string
	token string
	http  *http.Client
	extra http.Header // of every request

	// patience is how long a request is sent again after its answer was lost.
	patience time.Duration
}

// with is the same client, whose requests have a header besides.
func (c *Client) with(name, value string) *Client {
	d := *c
	d.extra = c.extra.Clone()
	if d.extra == nil {
		d.extra = http.Header{}
	}
	d.extra.Set(name, value)
	return &d
}

// New makes a client of the service at address, such as http://127.0.0.1:8740 or 127.0.0.1:8740, with an access token
// if the service needs one.
func New(address, token string) *Client {
	if !strings.Contains(address, "://") {
		address = "http://" + address
	}
	return &Client{base: strings.TrimRight(address, "/"), token: token, http: &http.Client{},
		patience: 15 * time.Second}
}

// ErrAway says that no service answers at the address.
var ErrAway = errors.New("no service answers")

// send makes a request; the answer's body is the caller's to close.
func (c *Client) send(ctx context.Context, method, path string, query url.Values, kind string,
	body io.Reader) (*http.Response, error) {
	u := c.base + "/api/v1" + path
	if len(query) > 0 {
		u += "?" + query.Encode()
	}
	req, err := http.NewRequestWithContext(ctx, method, u, body)
	if err != nil {
		return nil, err
	}
	maps.Copy(req.Header, c.extra)
	if kind != "" {
		req.Header.Set("Content-Type", kind)
	}
	if c.token != "" {
		req.Header.Set("Authorization", "Bearer "+c.token)
	}
	res, err := c.http.Do(req)
	if err != nil {
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		return nil, fmt.Errorf("%w at %s (%w)", ErrAway, c.base, err)
	}
	if res.StatusCode < 300 {
		return res, nil
	}
	defer res.Body.Close()
	p := &api.Problem{Status: res.StatusCode, Title: res.Status, Code: "unknown"}
	b, err := io.ReadAll(io.LimitReader(res.Body, mostProblem))
	if err == nil && strings.Contains(res.Header.Get("Content-Type"), "json") {
		_ = json.Unmarshal(b, p) // what is not a problem stays as its status
	}
	return nil, p
}

// mostProblem is how many bytes of the answer to a request that failed are read: it may have a finding for each of many
// lines.
const mostProblem = 16 << 20

// call makes a request and reads its JSON answer into out, which may be nil.
func (c *Client) call(ctx context.Context, method, path string, query url.Values, in, out any) error {
	var body io.Reader
	kind := ""
	if in != nil {
		b, err := json.Marshal(in)
		if err != nil {
			return err
		}
		body, kind = bytes.NewReader(b), "application/json"
	}
	res, err := c.send(ctx, method, path, query, kind, body)
	if err != nil {
		return err
	}
	return decode(res, out)
}

func decode(res *http.Response, out any) error {
	defer res.Body.Close()
	if out == nil {
		_, err := io.Copy(io.Discard, res.Body)
		return err
	}
	if err := json.NewDecoder(res.Body).Decode(out); err != nil {
		return fmt.Errorf("the service's answer is not readable: %w", err)
	}
	return nil
}

// SendDocument uploads a file, from its beginning.
func (c *Client) SendDocument(ctx context.Context, name string, file io.ReadSeeker) (out api.Received, err error) {
	err = c.upload(ctx, "/documents", name, file, &out)
	return out, err
}

// KeepMapping stores a mapping's YAML and returns its name and version.
func (c *Client) KeepMapping(ctx context.Context, text []byte) (api.MappingDetail, error) {
	var out api.MappingDetail
	res, err := c.send(ctx, http.MethodPost, "/mappings", nil, "application/yaml", bytes.NewReader(text))
	if err != nil {
		return out, err
	}
	return out, decode(res, &out)
}

// Mappings lists mappings.
func (c *Client) Mappings(ctx context.Context) ([]api.MappingDetail, error) {
	var out api.Page[api.MappingDetail]
	err := c.call(ctx, http.MethodGet, "/mappings", nil, nil, &out)
	return out.Items, err
}

// Mapping returns a version of a mapping; 0 is the newest.
func (c *Client) Mapping(ctx context.Context, name string, version int) (out api.MappingDetail, err error) {
	q := url.Values{}
	if version > 0 {
		q.Set("version", strconv.Itoa(version))
	}
	err = c.call(ctx, http.MethodGet, "/mappings/"+url.PathEscape(name), q, nil, &out)
	return out, err
}

// StartLoad starts a load.
func (c *Client) StartLoad(ctx context.Context, l api.NewLoad) (out outcome.Load, err error) {
	err = c.once(ctx, "/loads", nil, l, &out)
	return out, err
}

// Load returns a load with its reasons.
func (c *Client) Load(ctx context.Context, id int64) (out api.LoadReport, err error) {
	err = c.call(ctx, http.MethodGet, loadPath(id, ""), nil, nil, &out)
	return out, err
}

func loadPath(id int64, rest string) string { return "/loads/" + strconv.FormatInt(id, 10) + rest }

// CancelLoad stops a load.
func (c *Client) CancelLoad(ctx context.Context, id int64) (out outcome.Load, err error) {
	err = c.once(ctx, loadPath(id, "/cancel"), nil, nil, &out)
	return out, err
}

// WatchLoad calls each, unless it is nil, with the load whenever it changes, until it has ended, and returns it as it
// ended. It goes on where the service starts again meanwhile; if the service stays away, the error is ErrAway.
func (c *Client) WatchLoad(ctx context.Context, id int64, each func(outcome.Load)) (last outcome.Load, err error) {
	err = c.patiently(ctx, func() (heard bool, err error) {
		return heard, c.watch(ctx, id, func(l outcome.Load) {
			last, heard = l, true
			if each != nil {
				each(l)
			}
		})
	})
	return last, err
}

// watch follows a load until it has ended or the stream breaks off.
func (c *Client) watch(ctx context.Context, id int64, each func(outcome.Load)) error {
	res, err := c.send(ctx, http.MethodGet, loadPath(id, "/progress"), nil, "", nil)
	if err != nil {
		return err
	}
	defer res.Body.Close()
	lines := bufio.NewScanner(res.Body)
	lines.Buffer(nil, 1<<20)
	event, ended := "load", false
	for lines.Scan() {
		name, value, _ := strings.Cut(lines.Text(), ":")
		value = strings.TrimPrefix(value, " ")
		switch name {
		case "event":
			event = value
		case "data":
			if event == "problem" {
				p := &api.Problem{}
				if err := json.Unmarshal([]byte(value), p); err != nil {
					return err
				}
				return p
			}
			var l outcome.Load
			if err := json.Unmarshal([]byte(value), &l); err != nil {
				return fmt.Errorf("the service's answer is not readable: %w", err)
			}
			each(l)
			ended = l.Status.Ended()
		case "":
			event = "load"
		}
	}
	switch {
	case ended:
		return nil
	case ctx.Err() != nil:
		return ctx.Err()
	}
	why := lines.Err()
	if why == nil {
		why = io.ErrUnexpectedEOF // it was stopped: the load goes on when it is back
	}
	return fmt.Errorf("%w any more at %s (%v)", ErrAway, c.base, why)
}

// Loads returns a page of loads, newest first.
func (c *Client) Loads(ctx context.Context, query url.Values) (out api.Page[outcome.Load], err error) {
	err = c.call(ctx, http.MethodGet, "/loads", query, nil, &out)
	return out, err
}

// Findings returns a page of a load's findings.
func (c *Client) Findings(ctx context.Context, id int64, query url.Values) (out api.Page[finding.Finding], err error) {
	err = c.call(ctx, http.MethodGet, loadPath(id, "/findings"), query, nil, &out)
	return out, err
}

// Outcomes returns a page of what became of a load's orders.
func (c *Client) Outcomes(ctx context.Context, id int64, query url.Values) (out api.Page[outcome.OrderOutcome],
	err error) {
	err = c.call(ctx, http.MethodGet, loadPath(id, "/orders"), query, nil, &out)
	return out, err
}

// Report writes a load's report in a format: json, csv or marked.
func (c *Client) Report(ctx context.Context, id int64, format string, w io.Writer) error {
	res, err := c.send(ctx, http.MethodGet, loadPath(id, "/report"), url.Values{"format": {format}}, "", nil)
	if err != nil {
		return err
	}
	defer res.Body.Close()
	if _, err := io.Copy(w, res.Body); err != nil {
		return fmt.Errorf("the report broke off: %w", err)
	}
	return nil
}

// Orders returns a page of orders, newest first.
func (c *Client) Orders(ctx context.Context, query url.Values) (out api.Page[api.OrderSummary], err error) {
	err = c.call(ctx, http.MethodGet, "/orders", query, nil, &out)
	return out, err
}

// Order returns an order.
func (c *Client) Order(ctx context.Context, id int64) (out *api.StoredOrder, err error) {
	err = c.call(ctx, http.MethodGet, "/orders/"+strconv.FormatInt(id, 10), nil, nil, &out)
	return out, err
}

// Told says how a notice of an order is meant: the revision that the order must still have (0 means any), and warnings
// that do not hold it.
type Told struct {
	Seen   int
	Accept []string
}

// Tell posts a notice of an order: what is changes, answers, shipments, receipts, invoices or withdrawals.
func (c *Client) Tell(ctx context.Context, order int64, what string, n api.Notice, t Told) (out api.Posted, err error) {
	calls := c
	if t.Seen != 0 {
		calls = calls.with("If-Match", fmt.Sprintf(`"%d-%d"`, order, t.Seen))
	}
	err = calls.once(ctx, fmt.Sprintf("/orders/%d/%s", order, what), url.Values{"accept": t.Accept}, n,
		&out)
	return out, err
}

// PutList replaces a reference list.
func (c *Client) PutList(ctx context.Context, name string, entries []list.Entry) error {
	return c.call(ctx, http.MethodPut, "/lists/"+url.PathEscape(name), nil, api.Entries{Entries: entries}, nil)
}

// PutCrosswalk replaces a crosswalk.
func (c *Client) PutCrosswalk(ctx context.Context, name string, pairs []list.Pair) error {
	return c.call(ctx, http.MethodPut, "/crosswalks/"+url.PathEscape(name), nil, api.Pairs{Pairs: pairs}, nil)
}

// Lists returns the reference lists, or the crosswalks.
func (c *Client) Lists(ctx context.Context, crosswalks bool) ([]api.ListInfo, error) {
	path := "/lists"
	if crosswalks {
		path = "/crosswalks"
	}
	var out api.Page[api.ListInfo]
	err := c.call(ctx, http.MethodGet, path, nil, nil, &out)
	return out.Items, err
}

// Entries returns a page of a reference list's entries.
func (c *Client) Entries(ctx context.Context, name string, query url.Values) (out api.Page[list.Entry], err error) {
	err = c.call(ctx, http.MethodGet, "/lists/"+url.PathEscape(name)+"/entries", query, nil, &out)
	return out, err
}

// Pairs returns a page of a crosswalk's pairs.
func (c *Client) Pairs(ctx context.Context, name string, query url.Values) (out api.Page[list.Pair], err error) {
	err = c.call(ctx, http.MethodGet, "/crosswalks/"+url.PathEscape(name)+"/pairs", query, nil, &out)
	return out, err
}

// CreateToken makes an access token.
func (c *Client) CreateToken(ctx context.Context, t api.NewToken) (out api.CreatedToken, err error) {
	err = c.call(ctx, http.MethodPost, "/tokens", nil, t, &out) // not once: an answer that is repeated has no secret
	return out, err
}

// StartDataCheck begins to check whether the data is whole, unless this is being done already.
func (c *Client) StartDataCheck(ctx context.Context) (out api.DataCheck, err error) {
	err = c.call(ctx, http.MethodPost, "/data-check", nil, nil, &out)
	return out, err
}

// DataCheck says how the check of the data goes.
func (c *Client) DataCheck(ctx context.Context) (out api.DataCheck, err error) {
	err = c.call(ctx, http.MethodGet, "/data-check", nil, nil, &out)
	return out, err
}

// Audit lists what administrators changed, newest first.
func (c *Client) Audit(ctx context.Context, query url.Values) (out api.Page[api.Audit], err error) {
	err = c.call(ctx, http.MethodGet, "/audit", query, nil, &out)
	return out, err
}

// Tokens lists access tokens.
func (c *Client) Tokens(ctx context.Context) ([]api.Token, error) {
	var out api.Page[api.Token]
	err := c.call(ctx, http.MethodGet, "/tokens", nil, nil, &out)
	return out.Items, err
}

// RevokeToken revokes an access token.
func (c *Client) RevokeToken(ctx context.Context, id int64) error {
	return c.call(ctx, http.MethodDelete, "/tokens/"+strconv.FormatInt(id, 10), nil, nil, nil)
}

// Draft proposes a mapping for a document.
func (c *Client) Draft(ctx context.Context, document string, d api.NewDraft) (out drafting.Proposal, err error) {
	err = c.call(ctx, http.MethodPost, "/documents/"+url.PathEscape(document)+"/draft", nil, d, &out)
	return out, err
}

// Preview says what a mapping makes of a part of a document.
func (c *Client) Preview(ctx context.Context, document string, p api.NewPreview) (out api.Preview, err error) {
	err = c.call(ctx, http.MethodPost, "/documents/"+url.PathEscape(document)+"/preview", nil, p, &out)
	return out, err
}

// Compare says how the orders of a document differ between two mappings.
func (c *Client) Compare(ctx context.Context, document string, n api.NewComparison) (out api.Comparison, err error) {
	err = c.call(ctx, http.MethodPost, "/documents/"+url.PathEscape(document)+"/comparison", nil, n, &out)
	return out, err
}

// Cover says what of a document a mapping does not use.
func (c *Client) Cover(ctx context.Context, document string, m api.MappingRef) (out reading.Coverage, err error) {
	err = c.call(ctx, http.MethodPost, "/documents/"+url.PathEscape(document)+"/coverage", nil, m, &out)
	return out, err
}

// Why says why an order says what it says; line 0 is the header.
func (c *Client) Why(ctx context.Context, order int64, line int, field string) (out api.Why, err error) {
	q := url.Values{"field": {field}, "line": {strconv.Itoa(line)}}
	err = c.call(ctx, http.MethodGet, "/orders/"+strconv.FormatInt(order, 10)+"/why", q, nil, &out)
	return out, err
}

// Missing lists what lists and crosswalks did not know during a load.
func (c *Client) Missing(ctx context.Context, load int64) ([]reading.Miss, error) {
	var out api.Page[reading.Miss]
	err := c.call(ctx, http.MethodGet, loadPath(load, "/missing"), nil, nil, &out)
	return out.Items, err
}

// MappingVersions lists the versions of a mapping, newest first.
func (c *Client) MappingVersions(ctx context.Context, name string) ([]api.Mapping, error) {
	var out api.Page[api.Mapping]
	err := c.call(ctx, http.MethodGet, "/mappings/"+url.PathEscape(name)+"/versions", nil, nil, &out)
	return out.Items, err
}

// MappingFile writes the file at a mapping's path: blank, or document with orders. It returns how many values a
// document cannot express.
func (c *Client) MappingFile(ctx context.Context, name, what string, query url.Values, w io.Writer) (problems int,
	err error) {
	res, err := c.send(ctx, http.MethodGet, "/mappings/"+url.PathEscape(name)+"/"+what, query, "", nil)
	if err != nil {
		return 0, err
	}
	defer res.Body.Close()
	problems, _ = strconv.Atoi(res.Header.Get("Koinos-Problems")) // absent is none
	_, err = io.Copy(w, res.Body)
	return problems, err
}

// ExportOrders writes orders as a table of chosen columns. Position is how far the change feed was, where the query
// asks for what is new since a position.
func (c *Client) ExportOrders(ctx context.Context, query url.Values, w io.Writer) (position int64, err error) {
	res, err := c.send(ctx, http.MethodGet, "/orders/export", query, "", nil)
	if err != nil {
		return 0, err
	}
	defer res.Body.Close()
	if text := res.Header.Get("Koinos-Position"); text != "" {
		if position, err = strconv.ParseInt(text, 10, 64); err != nil {
			return 0, err
		}
	}
	_, err = io.Copy(w, res.Body)
	return position, err
}

// ExportMapping returns the mapping with which an exported table can be loaded after it was filled in.
func (c *Client) ExportMapping(ctx context.Context, query url.Values) (out api.ExportMapping, err error) {
	err = c.call(ctx, http.MethodGet, "/orders/export-mapping", query, nil, &out)
	return out, err
}

// Exports lists the exports that are kept under names.
func (c *Client) Exports(ctx context.Context) ([]api.Export, error) {
	var out api.Page[api.Export]
	err := c.call(ctx, http.MethodGet, "/exports", nil, nil, &out)
	return out.Items, err
}

// Export returns an export that is kept under a name.
func (c *Client) Export(ctx context.Context, name string) (out api.Export, err error) {
	err = c.call(ctx, http.MethodGet, "/exports/"+url.PathEscape(name), nil, nil, &out)
	return out, err
}

// KeepExport stores an export under a name.
func (c *Client) KeepExport(ctx context.Context, name string, e api.KeepExport) (out api.Export, err error) {
	err = c.call(ctx, http.MethodPut, "/exports/"+url.PathEscape(name), nil, e, &out)
	return out, err
}

// DropExport deletes an export.
func (c *Client) DropExport(ctx context.Context, name string) error {
	return c.call(ctx, http.MethodDelete, "/exports/"+url.PathEscape(name), nil, nil, nil)
}

// AllEntries returns a whole list, or a crosswalk as entries of theirs and ours.
func (c *Client) AllEntries(ctx context.Context, name string, crosswalk bool) ([]list.Entry, error) {
	q := url.Values{"limit": {"1000"}}
	var all []list.Entry
	for {
		var next string
		if crosswalk {
			page, err := c.Pairs(ctx, name, q)
			if err != nil {
				return nil, err
			}
			for _, p := range page.Items {
				all = append(all, list.Entry{Code: p.Theirs, Name: p.Ours})
			}
			next = page.Next
		} else {
			page, err := c.Entries(ctx, name, q)
			if err != nil {
				return nil, err
			}
			all, next = append(all, page.Items...), page.Next
		}
		if next == "" {
			return all, nil
		}
		q.Set("cursor", next)
	}
}
