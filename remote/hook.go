package remote

import (
	"crypto/hmac"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"net/http"
	"os"
	"slices"
	"strconv"
	"strings"
	"time"

	"koinos/core/system"
)

// ErrUnsigned says that a message does not prove where it comes from.
var ErrUnsigned = errors.New("the message's signature does not fit")

// ErrStale says that a message's time is too far from ours.
var ErrStale = errors.New("the message's time is too far from ours")

// Verify checks whether a message is from the system: its signature over the bytes as they came, and its time. It
// returns the message's id; a message without one has a digest of it.
func Verify(h *system.Hooks, header http.Header, body []byte, now time.Time) (id string, err error) {
	g := &h.Signature
	secrets, err := secretsOf(g)
	if err != nil {
		return "", err
	}
	id, stamp, over, given := "", "", g.Over, []string{}
	if g.Standard {
		id, stamp, over = header.Get("webhook-id"), header.Get("webhook-timestamp"), "{id}.{time}.{body}"
		for _, s := range strings.Fields(header.Get("webhook-signature")) {
			if v, ok := strings.CutPrefix(s, "v1,"); ok {
				given = append(given, v)
			}
		}
	} else {
		id = header.Get(g.ID)
		if g.Time != "" {
			stamp = header.Get(g.Time)
		}
		for _, s := range header.Values(g.Header) {
			for _, s := range pieces(g, s, &stamp) {
				if v, ok := strings.CutPrefix(strings.TrimSpace(s), g.Prefix); ok {
					given = append(given, v)
				}
			}
		}
	}
	if id == "" && g.IDAt != nil {
		id = system.ValueAt(g.IDAt, body)
	}
	believed := signed(secrets, over, id, stamp, body, given, g.Standard || g.Base64)
	if g.Token {
		believed = slices.ContainsFunc(secrets, func(s []byte) bool {
			return hmac.Equal(s, []byte(header.Get(g.Header)))
		})
	}
	if g.Standard && id == "" || !believed {
		return "", ErrUnsigned
	}
	if g.Standard || g.Time != "" || g.TimePart != "" {
		s, err := strconv.ParseInt(stamp, 10, 64)
		if err != nil || now.Sub(time.Unix(s, 0)).Abs() > h.Tolerance {
			return "", ErrStale
		}
	}
	if id == "" {
		sum := sha256.Sum256(body)
		id = hex.EncodeToString(sum[:])
	}
	return id, nil
}

// pieces returns the signatures in a header, and sets the time if the header contains it.
func pieces(g *system.Signature, header string, stamp *string) (all []string) {
	if g.Part == "" {
		return []string{header}
	}
	for _, piece := range strings.Split(header, ",") {
		switch name, value, _ := strings.Cut(strings.TrimSpace(piece), "="); {
		case name == g.Part:
			all = append(all, value)
		case name == g.TimePart && name != "":
			*stamp = value
		}
	}
	return all
}

// secretsOf returns the secrets that are accepted.
func secretsOf(g *system.Signature) (all [][]byte, err error) {
	from := []system.Secret{g.Secret}
	if g.HasOld {
		from = append(from, g.Old)
	}
	for _, s := range from {
		text := os.Getenv(s.Env)
		if s.File != "" {
			b, err := os.ReadFile(s.File)
			if err != nil {
				continue
			}
			text = strings.TrimSpace(string(b))
		}
		if text == "" {
			continue
		}
		key := []byte(text)
		if g.Standard {
			if key, err = base64.StdEncoding.DecodeString(strings.TrimPrefix(text, "whsec_")); err != nil {
				return nil, &Problem{Kind: Setup, Why: "A secret of Standard Webhooks is whsec_ and base64.", err: err}
			}
		}
		all = append(all, key)
	}
	if len(all) == 0 {
		return nil, &Problem{Kind: Setup, Why: "The secret of the webhooks is not set."}
	}
	return all, nil
}

// signed reports whether one of the signatures matches one of the secrets.
func signed(secrets [][]byte, over, id, stamp string, body []byte, given []string, base bool) bool {
	before, after, _ := strings.Cut(over, "{body}")
	fill := strings.NewReplacer("{id}", id, "{time}", stamp).Replace
	for _, secret := range secrets {
		mac := hmac.New(sha256.New, secret)
		mac.Write([]byte(fill(before)))
		mac.Write(body)
		mac.Write([]byte(fill(after)))
		want := mac.Sum(nil)
		for _, g := range given {
			is, err := hex.DecodeString(g)
			if base {
				is, err = base64.StdEncoding.DecodeString(g)
			}
			if err == nil && hmac.Equal(is, want) {
				return true
			}
		}
	}
	return false
}
