package system

import (
	"fmt"
	"strconv"
	"strings"
	"time"
)

// instant reads a stamp as systems write them: RFC 3339 with or without a zone, or
// seconds, milliseconds, microseconds since 1970 by how many digits they have.
func instant(stamp string) (time.Time, error) {
	for _, form := range []string{time.RFC3339Nano, "2006-01-02T15:04:05.999999999", "2006-01-02 15:04:05.999999999",
		"2006-01-02T15:04:05Z0700", time.DateOnly, time.RFC1123, time.RFC1123Z} {
		if t, err := time.Parse(form, stamp); err == nil {
			return t.UTC(), nil
		}
	}
	whole, fraction, _ := strings.Cut(stamp, ".")
	n, err := strconv.ParseInt(whole, 10, 64)
	if err != nil || n < 0 {
		return time.Time{}, fmt.Errorf("%q is no time", stamp)
	}
	switch {
	case n >= 1e14:
		return time.UnixMicro(n).UTC(), nil
	case n >= 1e11:
		return time.UnixMilli(n).UTC(), nil
	}
	nanos, _ := strconv.ParseInt((fraction + "000000000")[:9], 10, 64) // "" is none
	return time.Unix(n, nanos).UTC(), nil
}

// Age is how long before a time a stamp was, as the system wrote it; ok is false where it
// is no time.
func Age(stamp string, now time.Time) (age time.Duration, ok bool) {
	t, err := instant(stamp)
	return now.Sub(t), err == nil
}

// SameTime reports whether two stamps are of the same moment; what is no time is compared as text.
func SameTime(a, b string) bool {
	x, errX := instant(a)
	y, errY := instant(b)
	if errX != nil || errY != nil {
		return a == b
	}
	return x.Equal(y)
}

// SameDay reports whether two dates, or times as they are written, are of the same day.
func SameDay(a, b string) bool { return dayOf(a) == dayOf(b) }

func dayOf(s string) string {
	if len(s) >= len(time.DateOnly) {
		if _, err := time.Parse(time.DateOnly, s[:len(time.DateOnly)]); err == nil {
			return s[:len(time.DateOnly)]
		}
	}
	if t, err := instant(s); err == nil {
		return t.Format(time.DateOnly)
	}
	return s
}

// from returns the value of the parameter that asks for what is new since a stamp.
func (s *Since) from(stamp string) (string, error) {
	value, err := s.value(stamp)
	if s.As != "" {
		value = strings.ReplaceAll(s.As, "{since}", value)
	}
	return value, err
}

func (s *Since) value(stamp string) (string, error) {
	if s.Form == "number" {
		if _, err := strconv.ParseUint(stamp, 10, 64); err != nil {
			return "", fmt.Errorf("%q is no running number", stamp)
		}
		return stamp, nil
	}
	t, err := instant(stamp)
	if err != nil {
		return "", err
	}
	t = t.Add(-s.Overlap)
	switch s.Form {
	case "seconds":
		return strconv.FormatInt(t.Unix(), 10), nil
	case "milliseconds":
		return strconv.FormatInt(t.UnixMilli(), 10), nil
	case "date":
		return t.Format(time.DateOnly), nil
	case "plain":
		return t.Format(time.DateTime), nil
	}
	return t.Format(time.RFC3339Nano), nil
}

// Newer returns the later of two stamps of a system; what is no time is compared as text.
// Blank is before everything.
func Newer(a, b string) string {
	if a == "" || b == "" {
		return a + b
	}
	ta, errA := instant(a)
	tb, errB := instant(b)
	if errA != nil || errB != nil {
		return max(a, b)
	}
	if tb.After(ta) {
		return b
	}
	return a
}
