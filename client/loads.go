package client

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strconv"

	"koinos/api"
	"koinos/core/finding"
	"koinos/core/order"
	"koinos/core/outcome"
	"koinos/core/report"
)

// ActOnLoad pauses, resumes, retries or cancels a load and returns the resulting load.
func (c *Client) ActOnLoad(ctx context.Context, id int64, act string) (out outcome.Load, err error) {
	err = c.once(ctx, loadPath(id, "/"+act), nil, nil, &out)
	return out, err
}

// AcceptWarnings accepts warnings that hold orders of a load and returns the new load of its failed orders.
func (c *Client) AcceptWarnings(ctx context.Context, id int64, codes []finding.Code) (out outcome.Load, err error) {
	err = c.once(ctx, loadPath(id, "/accept"), nil, api.Acceptance{Codes: codes}, &out)
	return out, err
}

// Acts lists what would fix many findings of a load at once.
func (c *Client) Acts(ctx context.Context, id int64) ([]api.Act, error) {
	var out api.Page[api.Act]
	err := c.call(ctx, http.MethodGet, loadPath(id, "/acts"), nil, nil, &out)
	return out.Items, err
}

// Fix fixes what failed in a load and returns the new load of its failed orders.
func (c *Client) Fix(ctx context.Context, id int64, f api.Fix) (out outcome.Load, err error) {
	err = c.once(ctx, loadPath(id, "/fix"), nil, f, &out)
	return out, err
}

// UndoLoad takes back what a load did, or says what it would do.
func (c *Client) UndoLoad(ctx context.Context, id int64, dry bool) (out api.Undone, err error) {
	err = c.once(ctx, loadPath(id, "/undo"), url.Values{"dry_run": {strconv.FormatBool(dry)}}, nil,
		&out)
	return out, err
}

// RefreshReport updates a marked copy and writes it to w.
func (c *Client) RefreshReport(ctx context.Context, name string, r io.Reader, w io.Writer) (count report.Refreshed,
	err error) {
	res, err := c.send(ctx, http.MethodPost, "/reports/refresh", url.Values{"name": {name}}, "application/octet-stream",
		r)
	if err != nil {
		return count, err
	}
	defer res.Body.Close()
	for header, into := range map[string]*int{"Koinos-Rows": &count.Rows, "Koinos-Cells": &count.Cells,
		"Koinos-Absent": &count.Absent} {
		*into, _ = strconv.Atoi(res.Header.Get(header)) // absent is none
	}
	if _, err := io.Copy(w, res.Body); err != nil {
		return count, fmt.Errorf("the copy broke off: %w", err)
	}
	return count, nil
}

// PostOrder stores one order. again says what is done if it is stored already; blank means skip.
func (c *Client) PostOrder(ctx context.Context, o *order.Order, again outcome.Again) (out api.Posted, err error) {
	q := url.Values{}
	if again != "" {
		q.Set("again", string(again))
	}
	err = c.once(ctx, "/orders", q, o, &out)
	return out, err
}

// KeepSequence stores a sequence's YAML.
func (c *Client) KeepSequence(ctx context.Context, text []byte) (out api.SequenceDetail, err error) {
	res, err := c.send(ctx, http.MethodPost, "/sequences", nil, "application/yaml", bytes.NewReader(text))
	if err != nil {
		return out, err
	}
	return out, decode(res, &out)
}

// Sequences lists sequences.
func (c *Client) Sequences(ctx context.Context) ([]api.SequenceDetail, error) {
	var out api.Page[api.SequenceDetail]
	err := c.call(ctx, http.MethodGet, "/sequences", nil, nil, &out)
	return out.Items, err
}

// StartRun runs a document through a sequence.
func (c *Client) StartRun(ctx context.Context, r api.NewRun) (out outcome.Run, err error) {
	err = c.once(ctx, "/runs", nil, r, &out)
	return out, err
}

// Run returns a run with the loads of its steps.
func (c *Client) Run(ctx context.Context, id int64) (out outcome.Run, err error) {
	err = c.call(ctx, http.MethodGet, "/runs/"+strconv.FormatInt(id, 10), nil, nil, &out)
	return out, err
}

// Runs returns a page of runs, newest first.
func (c *Client) Runs(ctx context.Context, query url.Values) (out api.Page[outcome.Run], err error) {
	err = c.call(ctx, http.MethodGet, "/runs", query, nil, &out)
	return out, err
}

// Today returns what is running, what needs attention, and the last days.
func (c *Client) Today(ctx context.Context) (out api.Today, err error) {
	err = c.call(ctx, http.MethodGet, "/today", nil, nil, &out)
	return out, err
}

// Held returns a page of what is held, oldest first.
func (c *Client) Held(ctx context.Context, query url.Values) (out api.Page[api.HeldWork], err error) {
	err = c.call(ctx, http.MethodGet, "/held", query, nil, &out)
	return out, err
}

// RetryHeld tries what is held once more.
func (c *Client) RetryHeld(ctx context.Context, id int64) (out api.Retried, err error) {
	err = c.once(ctx, "/held/"+strconv.FormatInt(id, 10)+"/retry", nil, nil, &out)
	return out, err
}

// Events returns what happened to orders behind the event of a number.
func (c *Client) Events(ctx context.Context, after int64) (out api.Page[api.Event], err error) {
	err = c.call(ctx, http.MethodGet, "/events", url.Values{"after": {strconv.FormatInt(after, 10)}}, nil, &out)
	return out, err
}
