package remote

import (
	"crypto/hmac"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"net/http"
	"strconv"
	"strings"
	"testing"
	"time"

	"koinos/core/system"
)

const hookSystem = `koinos: system/1
name: shop
address: https://shop.example
hooks:
  signature: SIGNATURE
  event: $.type
  events: {changed: {record: order, key: $.id}}
records:
  order: {list: {path: /o, records: "$[*]"}, get: {path: "/o/{key}"}, key: $.id, mapping: m}
`

func mac(key, text string) []byte {
	m := hmac.New(sha256.New, []byte(key))
	m.Write([]byte(text))
	return m.Sum(nil)
}

// Who is believed, and who is not.
func TestVerify(t *testing.T) {
	const body = `{"type": "changed", "id": 7}`
	now := time.Unix(1_772_445_900, 0)
	at := func(d time.Duration) string { return strconv.FormatInt(now.Add(d).Unix(), 10) }
	key := strings.Repeat("k", 24)
	t.Setenv("NEW", "whsec_"+base64.StdEncoding.EncodeToString([]byte(key)))
	t.Setenv("OLD", "whsec_"+base64.StdEncoding.EncodeToString([]byte("old"+key)))
	t.Setenv("PLAIN", "s3cret")
	t.Setenv("BROKEN", "whsec_%%%")
	b64, hx := base64.StdEncoding.EncodeToString, hex.EncodeToString
	const standard = "{standard: {secret: {env: NEW}, old_secret: {env: OLD}}}"
	stand := func(id, stamp, signature string) map[string]string {
		return map[string]string{"webhook-id": id, "webhook-timestamp": stamp, "webhook-signature": signature}
	}
	good := "v1," + b64(mac(key, "m1."+at(0)+"."+body))
	sum := sha256.Sum256([]byte(body))
	for _, c := range []struct {
		name, signature string
		header          map[string]string
		id              string
		err             error
	}{
		{"as the standard has it", standard, stand("m1", at(0), good), "m1", nil},
		{"several, one of which fits", standard, stand("m1", at(0), "v2,x v1,AAAA "+good), "m1", nil},
		{"by the old secret", standard, stand("m1", at(0), "v1,"+b64(mac("old"+key, "m1."+at(0)+"."+body))), "m1", nil},
		{"by no secret of ours", standard, stand("m1", at(0), "v1,"+b64(mac("x"+key, "m1."+at(0)+"."+body))), "",
			ErrUnsigned},
		{"of another message", standard, stand("m2", at(0), good), "", ErrUnsigned},
		{"of another time", standard, stand("m1", at(time.Second), good), "", ErrUnsigned},
		{"unsigned", standard, stand("m1", at(0), ""), "", ErrUnsigned},
		{"without an id", standard, stand("", at(0), "v1,"+b64(mac(key, "."+at(0)+"."+body))), "", ErrUnsigned},
		{"too old", standard, stand("m1", at(-6*time.Minute), "v1,"+b64(mac(key, "m1."+at(-6*time.Minute)+"."+body))),
			"", ErrStale},
		{"from tomorrow", standard, stand("m1", at(24*time.Hour), "v1,"+b64(mac(key, "m1."+at(24*time.Hour)+"."+body))),
			"", ErrStale},
		{"without a time", standard, stand("m1", "", "v1,"+b64(mac(key, "m1.."+body))), "", ErrStale},
		{"an HMAC with a prefix", "{hmac: {header: X-Sig, secret: {env: PLAIN}, prefix: sha256=, id: X-Id}}",
			map[string]string{"x-sig": "sha256=" + hx(mac("s3cret", body)), "x-id": "9"}, "9", nil},
		{"an HMAC without it", "{hmac: {header: X-Sig, secret: {env: PLAIN}, prefix: sha256=}}",
			map[string]string{"x-sig": hx(mac("s3cret", body))}, "", ErrUnsigned},
		{"an HMAC over the time too, in base64, with the id in the body",
			"{hmac: {header: X-Sig, secret: {env: PLAIN}, encoding: base64, time: X-At, over: \"{time}.{body}\", " +
				"id_at: $.id}}",
			map[string]string{"x-sig": b64(mac("s3cret", at(0)+"."+body)), "x-at": at(0)}, "7", nil},
		{"a time and signatures in one header",
			"{hmac: {header: X-Sig, secret: {env: PLAIN}, part: v1, time_part: t, over: \"{time}.{body}\"}}",
			map[string]string{"x-sig": "t=" + at(0) + ", v0=00,v1=00,v1=" + hx(mac("s3cret", at(0)+"."+body))},
			hx(sum[:]), nil},
		{"an old time in one header",
			"{hmac: {header: X-Sig, secret: {env: PLAIN}, part: v1, time_part: t, over: \"{time}.{body}\"}}",
			map[string]string{"x-sig": "t=7,v1=" + hx(mac("s3cret", "7."+body))}, "", ErrStale},
		{"only another part fits", "{hmac: {header: X-Sig, secret: {env: PLAIN}, part: v1}}",
			map[string]string{"x-sig": "v0=" + hx(mac("s3cret", body))}, "", ErrUnsigned},
		{"no id anywhere", "{hmac: {header: X-Sig, secret: {env: PLAIN}}}",
			map[string]string{"x-sig": hx(mac("s3cret", body))},
			hx(sum[:]), nil},
	} {
		y, err := system.Parse([]byte(strings.Replace(hookSystem, "SIGNATURE", c.signature, 1)))
		if err != nil {
			t.Fatal(c.name, err)
		}
		header := http.Header{}
		for name, v := range c.header {
			header.Set(name, v)
		}
		id, err := Verify(y.Hooks, header, []byte(body), now)
		if id != c.id || !errors.Is(err, c.err) {
			t.Errorf("%s: %q, %v; want %q, %v", c.name, id, err, c.id, c.err)
		}
		if _, err := Verify(y.Hooks, header, []byte(body+" "), now); err == nil {
			t.Errorf("%s: with another body it is believed", c.name)
		}
	}
	y, err := system.Parse([]byte(strings.Replace(hookSystem, "SIGNATURE",
		"{token: {header: X-Token, secret: {env: PLAIN}, id_at: $.id}}", 1)))
	if err != nil {
		t.Fatal(err)
	}
	for token, want := range map[string]error{"s3cret": nil, "s3cre": ErrUnsigned, "": ErrUnsigned} {
		if _, err := Verify(y.Hooks, http.Header{"X-Token": {token}}, []byte(body), now); !errors.Is(err, want) {
			t.Errorf("the token %q: %v", token, err)
		}
	}
	for secret, says := range map[string]string{"NOTHING": "The secret of the webhooks is not set.",
		"BROKEN": "A secret of Standard Webhooks is whsec_ and base64."} {
		y, err := system.Parse([]byte(strings.Replace(hookSystem, "SIGNATURE",
			"{standard: {secret: {env: "+secret+"}}}", 1)))
		if err != nil {
			t.Fatal(err)
		}
		if _, err := Verify(y.Hooks, http.Header{}, []byte(body), now); err == nil || err.Error() != says {
			t.Errorf("%s: %v", secret, err)
		}
	}
}

// No message crashes what looks at it.
func FuzzVerify(f *testing.F) {
	f.Setenv("PLAIN", "s3cret")
	y, err := system.Parse([]byte(strings.Replace(hookSystem, "SIGNATURE",
		"{hmac: {header: X-Sig, secret: {env: PLAIN}, id_at: $.id, time: X-At}}", 1)))
	if err != nil {
		f.Fatal(err)
	}
	f.Add("00", "1", []byte(`{"id": 1}`))
	f.Fuzz(func(t *testing.T, sig, at string, body []byte) {
		header := http.Header{"X-Sig": {sig}, "X-At": {at}}
		if _, err := Verify(y.Hooks, header, body, time.Unix(1, 0)); err == nil &&
			sig != hex.EncodeToString(mac("s3cret", string(body))) {
			t.Errorf("%q is believed", sig)
		}
	})
}
