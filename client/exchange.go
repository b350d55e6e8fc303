package client

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strconv"
	"strings"

	"koinos/api"
	"koinos/core/x12"
)

// KeepPartner stores a partner's YAML.
func (c *Client) KeepPartner(ctx context.Context, text []byte) (api.PartnerDetail, error) {
	var out api.PartnerDetail
	res, err := c.send(ctx, http.MethodPost, "/partners", nil, "application/yaml", bytes.NewReader(text))
	if err != nil {
		return out, err
	}
	return out, decode(res, &out)
}

// Partners lists trading partners.
func (c *Client) Partners(ctx context.Context) ([]api.PartnerDetail, error) {
	var out api.Page[api.PartnerDetail]
	err := c.call(ctx, http.MethodGet, "/partners", nil, nil, &out)
	return out.Items, err
}

// Partner returns a trading partner.
func (c *Client) Partner(ctx context.Context, name string) (out api.PartnerDetail, err error) {
	err = c.call(ctx, http.MethodGet, "/partners/"+url.PathEscape(name), nil, nil, &out)
	return out, err
}

// ControlNumbers returns the last control numbers of what went to a partner.
func (c *Client) ControlNumbers(ctx context.Context, name string) (n api.ControlNumbers, err error) {
	err = c.call(ctx, http.MethodGet, "/partners/"+url.PathEscape(name)+"/numbers", nil, nil, &n)
	return n, err
}

// SetControlNumbers continues the control numbers for a partner behind others; 0 leaves a number as it is.
func (c *Client) SetControlNumbers(ctx context.Context, name string, last api.ControlNumbers) (n api.ControlNumbers,
	err error) {
	err = c.call(ctx, http.MethodPut, "/partners/"+url.PathEscape(name)+"/numbers", nil, last, &n)
	return n, err
}

// SendDue tells a partner what is due.
func (c *Client) SendDue(ctx context.Context, name string, want api.Wanted) (out api.Sending, err error) {
	err = c.once(ctx, "/partners/"+url.PathEscape(name)+"/send", nil, want, &out)
	return out, err
}

// Interchanges returns a page of interchanges, newest first.
func (c *Client) Interchanges(ctx context.Context, query url.Values) (out api.Page[api.Interchange], err error) {
	err = c.call(ctx, http.MethodGet, "/interchanges", query, nil, &out)
	return out, err
}

// Interchange returns an interchange with its sets.
func (c *Client) Interchange(ctx context.Context, id int64) (out api.Interchange, err error) {
	err = c.call(ctx, http.MethodGet, interchangePath(id, ""), nil, nil, &out)
	return out, err
}

// Segments returns a stretch of an interchange as people read it, from a segment on.
func (c *Client) Segments(ctx context.Context, id int64, from int) (out api.Page[x12.Item], err error) {
	err = c.call(ctx, http.MethodGet, interchangePath(id, "/segments"), url.Values{"from": {strconv.Itoa(from)}}, nil,
		&out)
	return out, err
}

// ReceiveInterchange uploads what a partner sent, from its beginning.
func (c *Client) ReceiveInterchange(ctx context.Context, name string, file io.ReadSeeker) ([]api.Interchange, error) {
	var out api.Page[api.Interchange]
	err := c.upload(ctx, "/interchanges", name, file, &out)
	return out.Items, err
}

// Resend sends an interchange of ours once more.
func (c *Client) Resend(ctx context.Context, id int64) (out api.Interchange, err error) {
	err = c.once(ctx, interchangePath(id, "/resend"), nil, nil, &out)
	return out, err
}

// Renumber sends an interchange of ours once more under new control numbers.
func (c *Client) Renumber(ctx context.Context, id int64) (out api.Interchange, err error) {
	err = c.once(ctx, interchangePath(id, "/renumber"), nil, nil, &out)
	return out, err
}

// Replay does once more what an interchange asks for; warnings with accepted codes do not hold it.
func (c *Client) Replay(ctx context.Context, id int64, accept ...string) (out api.Interchange, err error) {
	q := url.Values{}
	if len(accept) > 0 {
		q.Set("accept", strings.Join(accept, ","))
	}
	err = c.once(ctx, interchangePath(id, "/replay"), q, nil, &out)
	return out, err
}

// Settle says that a person has dealt with an interchange that was held, or that its partner rejected.
func (c *Client) Settle(ctx context.Context, id int64) (out api.Interchange, err error) {
	err = c.once(ctx, interchangePath(id, "/settle"), nil, nil, &out)
	return out, err
}

// Sets returns a page of the transaction sets of an interchange.
func (c *Client) Sets(ctx context.Context, id int64, query url.Values) (out api.Page[api.SetRecord], err error) {
	err = c.call(ctx, http.MethodGet, interchangePath(id, "/sets"), query, nil, &out)
	return out, err
}

// Decide takes some of the changes that a transaction set of an interchange asks for, and refuses the others.
func (c *Client) Decide(ctx context.Context, id int64, set int, take []int) (out api.Interchange, err error) {
	err = c.once(ctx, interchangePath(id, fmt.Sprintf("/sets/%d/decision", set)), nil,
		api.SetDecision{Take: append([]int{}, take...)}, &out)
	return out, err
}

// LetIn lets in an interchange whose control number came before with other content.
func (c *Client) LetIn(ctx context.Context, id int64) (out api.Interchange, err error) {
	err = c.once(ctx, interchangePath(id, "/let-in"), nil, nil, &out)
	return out, err
}

// Refuse refuses an interchange whose control number came before with other content, and tells its sender.
func (c *Client) Refuse(ctx context.Context, id int64) (out api.Interchange, err error) {
	err = c.once(ctx, interchangePath(id, "/refuse"), nil, nil, &out)
	return out, err
}

func interchangePath(id int64, rest string) string {
	return "/interchanges/" + strconv.FormatInt(id, 10) + rest
}
