package site

import (
	"fmt"
	"strconv"
	"strings"
	"time"
	_ "time/tzdata" // zones are part of the program: the same on every machine
)

// Hours is a part of each week, such as "Mon-Fri 06:00-20:00 Europe/Dublin".
type Hours struct {
	days     [7]bool // by time.Weekday
	from, to time.Duration
	zone     *time.Location
	text     string
}

func (h Hours) String() string { return h.text }

// Hold reports whether t is within the hours. Hours that end before they begin
// go on past midnight and belong to the day on which they began.
func (h Hours) Hold(t time.Time) bool {
	t = t.In(h.zone)
	clock := time.Duration(t.Hour())*time.Hour + time.Duration(t.Minute())*time.Minute +
		time.Duration(t.Second())*time.Second
	today, yesterday := h.days[t.Weekday()], h.days[(t.Weekday()+6)%7]
	if h.from < h.to {
		return today && clock >= h.from && clock < h.to
	}
	return today && clock >= h.from || yesterday && clock < h.to
}

var dayNames = []string{"Sun", "Mon", "Tue", "Wed", "Thu", "Fri", "Sat"}

// ParseHours reads hours: days, times, and a time zone, which is UTC unless
// said. Days may be left out for every day.
func ParseHours(text string) (Hours, error) {
	h := Hours{zone: time.UTC, text: text}
	words := strings.Fields(text)
	if len(words) > 0 && !strings.Contains(words[0], ":") {
		if !h.readDays(words[0]) {
			return h, fmt.Errorf("%q are no days; Mon-Fri or Sat,Sun is wanted", shorten(words[0]))
		}
		words = words[1:]
	} else {
		h.days = [7]bool{true, true, true, true, true, true, true}
	}
	if len(words) == 0 || len(words) > 2 {
		return h, fmt.Errorf("hours are %q; days, times and a zone are wanted, such as Mon-Fri 06:00-20:00 "+
			"Europe/Dublin",
			shorten(text))
	}
	from, to, two := strings.Cut(words[0], "-")
	var ok1, ok2 bool
	if h.from, ok1 = readClock(from); !two || !ok1 || h.from == 24*time.Hour {
		return h, fmt.Errorf("%q are no times; 06:00-20:00 is wanted", shorten(words[0]))
	}
	if h.to, ok2 = readClock(to); !ok2 || h.to == h.from {
		return h, fmt.Errorf("%q are no times; 06:00-20:00 is wanted", shorten(words[0]))
	}
	if len(words) == 2 {
		zone, err := time.LoadLocation(words[1])
		if err != nil || words[1] == "Local" {
			return h, fmt.Errorf("%q is no time zone; one of the IANA database is wanted, such as Europe/Dublin",
				shorten(words[1]))
		}
		h.zone = zone
	}
	return h, nil
}

func (h *Hours) readDays(text string) bool {
	for part := range strings.SplitSeq(text, ",") {
		first, last, _ := strings.Cut(part, "-")
		if last == "" {
			last = first
		}
		i, j := dayNumber(first), dayNumber(last)
		if i < 0 || j < 0 {
			return false
		}
		for ; ; i = (i + 1) % 7 {
			h.days[i] = true
			if i == j {
				break
			}
		}
	}
	return true
}

func dayNumber(name string) int {
	for i, d := range dayNames {
		if strings.EqualFold(d, name) {
			return i
		}
	}
	return -1
}

// readClock reads 00:00 to 24:00.
func readClock(text string) (time.Duration, bool) {
	hours, minutes, cut := strings.Cut(text, ":")
	if !cut || len(hours) != 2 || len(minutes) != 2 {
		return 0, false
	}
	hour, err1 := strconv.ParseUint(hours, 10, 8)
	minute, err2 := strconv.ParseUint(minutes, 10, 8)
	if err1 != nil || err2 != nil || minute > 59 || hour > 24 || hour == 24 && minute > 0 {
		return 0, false
	}
	return time.Duration(hour)*time.Hour + time.Duration(minute)*time.Minute, true
}
