package remote

import (
	"bytes"
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"time"
)

// postTimeout is how long a subscriber may take to answer.
const postTimeout = 15 * time.Second

var poster = &http.Client{Timeout: postTimeout,
	CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
	Transport: &http.Transport{DialContext: (&net.Dialer{Timeout: 10 * time.Second, Control: refuseLocal}).DialContext,
		ForceAttemptHTTP2: true, MaxIdleConnsPerHost: 8, TLSHandshakeTimeout: 10 * time.Second,
		IdleConnTimeout:        time.Minute,
		MaxResponseHeaderBytes: 64 << 10}}

// Post sends a message to a subscriber, and returns the status of the answer. Redirects are not followed; the content
// of the answer is ignored.
func Post(ctx context.Context, address string, header http.Header, body []byte) (status int, err error) {
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, address, bytes.NewReader(body))
	if err != nil {
		return 0, err
	}
	req.Header = header.Clone()
	req.Header.Set("User-Agent", "Koinos")
	res, err := poster.Do(req)
	if err != nil {
		var slow net.Error
		if errors.As(err, &slow) && slow.Timeout() {
			return 0, fmt.Errorf("they did not answer within %s", postTimeout)
		}
		return 0, fmt.Errorf("they do not answer: %s", plain(err, req))
	}
	defer res.Body.Close()
	_, _ = io.Copy(io.Discard, io.LimitReader(res.Body, 64<<10)) // the connection can be used again
	return res.StatusCode, nil
}

// Sign is the signature of a message according to Standard Webhooks, without its v1.
func Sign(secret []byte, id, stamp string, body []byte) string {
	mac := hmac.New(sha256.New, secret)
	fmt.Fprintf(mac, "%s.%s.", id, stamp)
	mac.Write(body)
	return base64.StdEncoding.EncodeToString(mac.Sum(nil))
}
