package diagnose

import (
	"fmt"
	"testing"
	"time"

	"mellowgate/internal/core/evidence"
)

// busy makes the evidence of a day: so many logins on 200 devices, one in fifty
// of which fails.
func busy(logins int) evidence.Evidence {
	var e evidence.Evidence
	for i := range logins {
		when := at.Add(time.Duration(i) * 86400 * time.Second / time.Duration(logins))
		device, person := fmt.Sprintf("sw-%d", i%200), fmt.Sprintf("person-%d", i%400)
		t := login(person, "in", "", "tern", 15, group("accepted", "", "tern"))
		v := event(person, "login", evidence.Accepted, "accepted", "a role")
		if i%50 == 0 {
			t = login(person, "refused", "list-ended", "", 0,
				group("unavailable", "no-answer", "", try("tern", "silent")))
			v = event("", "login", evidence.Dropped, KeyDiffers, "another key")
		}
		t.Device = device
		t.Time = when
		v.Device = device
		v.Time = when
		x := evidence.Exchange{Time: when, Protocol: "tacacs", Device: device, Server: "tern", Person: person,
			Question: "login", Answer: evidence.Accepted, Key: evidence.KeyFits}
		e.Traces, e.Events, e.Exchanges = append(e.Traces, t), append(e.Events, v), append(e.Exchanges, x)
	}
	return e
}

// What a day costs grows with its logins and no faster: compare the two.
func BenchmarkEverythingOfADay(b *testing.B) {
	for _, logins := range []int{5000, 50000} {
		e := busy(logins)
		b.Run(fmt.Sprint(logins), func(b *testing.B) {
			b.ReportAllocs()
			for b.Loop() {
				if s := All(e, Symptom{}); s.Logins != logins || len(s.Groups) == 0 {
					b.Fatal(s.Logins, len(s.Groups))
				}
			}
		})
	}
	e := busy(50000)
	e.Traces = nil
	b.Run("50000 without traces", func(b *testing.B) {
		for b.Loop() {
			_ = All(e, Symptom{})
		}
	})
}
