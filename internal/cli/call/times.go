package call

import (
	"context"
	"errors"
	"fmt"
	"time"
)

// Milliseconds shows a short time: "0.41 ms", "12 ms", "2.0 s".
func Milliseconds(seconds float64) string {
	switch ms := seconds * 1000; {
	case ms < 10:
		return fmt.Sprintf("%.2f ms", ms)
	case ms < 1000:
		return fmt.Sprintf("%.0f ms", ms)
	}
	return fmt.Sprintf("%.1f s", seconds)
}

func SecondsOf(d time.Duration) float64 { return d.Round(time.Millisecond).Seconds() }

// EndAfter waits for the end of the call, or for a time above 0.
func (c *Call) EndAfter(span time.Duration) {
	ctx := c.Context
	if span > 0 {
		var stop context.CancelFunc
		ctx, stop = context.WithTimeout(ctx, span)
		defer stop()
	}
	<-ctx.Done()
}

// Shortly writes a time for people: "45 s", "12 min".
func Shortly(d time.Duration) string {
	if d < 2*time.Minute {
		return fmt.Sprintf("%.0f s", d.Seconds())
	}
	return fmt.Sprintf("%.0f min", d.Minutes())
}

// PointOfTime reads a time, a clock time of today, or how long ago it was.
func PointOfTime(flag, text string, now time.Time) (time.Time, error) {
	if text == "" {
		return time.Time{}, nil
	}
	if d, err := time.ParseDuration(text); err == nil && d >= 0 {
		return now.Add(-d), nil
	}
	t, err := Moment(text, now)
	if err == nil || errors.Is(err, errNoMoment) {
		return t, err
	}
	return time.Time{}, Usagef("%s is %q; 2h, 03:10, 2026-11-23 or 2026-11-23T14:00:00Z is wanted", flag, text)
}

// Span is the time from one moment to another, as tables show it.
func Span(from, to time.Time) string {
	if Short(from) == Short(to) {
		return Short(from)
	}
	return Short(from) + " to " + Short(to)
}

// moments are the forms in which a point of time may be given.
var moments = []string{time.RFC3339, "2006-01-02T15:04Z07:00", "2006-01-02T15:04:05", "2006-01-02T15:04", time.DateOnly}

// errNoMoment is a clock time that a day does not have, or has twice.
var errNoMoment = errors.New("no such moment")

// Moment reads a point of time: a clock time of today, or a date with one; in the zone
// of this host where it says none.
func Moment(text string, now time.Time) (time.Time, error) {
	if text == "" {
		return time.Time{}, nil
	}
	for _, layout := range []string{"15:04", "15:04:05"} {
		if t, err := time.ParseInLocation(layout, text, time.UTC); err == nil {
			y, m, d := now.Date()
			return theOne(y, m, d, t, text)
		}
	}
	for _, layout := range moments {
		t, err := time.ParseInLocation(layout, text, time.UTC)
		if err != nil {
			continue
		}
		if layout == time.RFC3339 || layout == "2006-01-02T15:04Z07:00" {
			return t, nil
		}
		y, m, d := t.Date()
		return theOne(y, m, d, t, text)
	}
	return time.Time{}, Usagef("-at is %q; 14:30, 2026-11-23T14:30 or 2026-11-23T14:30:00Z is wanted", text)
}

// theOne returns the moment at which the clocks of this host show a time on a day. Where
// summer time begins or ends some show at none, or at two.
func theOne(y int, m time.Month, d int, clock time.Time, text string) (time.Time, error) {
	t := time.Date(y, m, d, clock.Hour(), clock.Minute(), clock.Second(), 0, time.Local)
	if t.Hour() != clock.Hour() || t.Minute() != clock.Minute() {
		return t, UsageError(fmt.Errorf(
			"%w: on %s the clocks of this host go past %s, as summer time begins", errNoMoment, t.Format(time.DateOnly),
			clock.Format("15:04")))
	}
	for _, other := range []time.Time{t.Add(-time.Hour), t.Add(time.Hour)} {
		if other.Hour() == t.Hour() && other.Minute() == t.Minute() {
			first, second := t, other
			if other.Before(t) {
				first, second = other, t
			}
			return t, UsageError(fmt.Errorf("%w: %s is twice on %s, as summer time ends; say which: %s or %s",
				errNoMoment, clock.Format("15:04"), t.Format(time.DateOnly), first.Format("2006-01-02T15:04Z07:00"),
				second.Format("2006-01-02T15:04Z07:00")))
		}
	}
	return t, nil
}

// Short is a time as tables show it: without the date where that is today's, without
// the year where that is this one, and with its zone where that is not the one of now,
// which the heading names.
func Short(t time.Time) string { return shortAt(t.Local(), time.Now()) }

func shortAt(t, now time.Time) string {
	layout := "2006-01-02 15:04:05"
	switch {
	case t.Year() == now.Year() && t.YearDay() == now.YearDay():
		layout = time.TimeOnly
	case t.Year() == now.Year():
		layout = "01-02 15:04:05"
	}
	if zone, _ := t.Zone(); zone != zoneOf(now) {
		layout += " MST"
	}
	return t.Format(layout)
}

func zoneOf(t time.Time) string { zone, _ := t.Zone(); return zone }

// Zoned is a heading or a text with times in it, followed by the zone here: the times are of this zone unless they
// say another.
func Zoned(heading string) string { return heading + " " + zoneOf(time.Now()) }
