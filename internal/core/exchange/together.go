package exchange

import (
	"fmt"
	"slices"
	"time"

	"mellowgate/internal/core/evidence"
)

// Place is a capture of one place on the way between devices and servers.
type Place struct {
	Name      string // of the file
	Exchanges []Exchange
}

// near is how far apart two captures may have one question, once their clocks agree.
const near = 2 * time.Second

// Together makes one list of what captures of several places show. What one place has
// and another has not was lost between them: a question that never came to the second,
// an answer that only the second has.
func Together(places []Place) []Exchange {
	if len(places) == 0 {
		return nil
	}
	first, all := places[0], slices.Clone(places[0].Exchanges)
	for _, other := range places[1:] {
		off := apart(first.Exchanges, other.Exchanges)
		theirs := byQuestion(other.Exchanges)
		taken := make([]bool, len(other.Exchanges))
		for i := range all {
			k := slices.IndexFunc(theirs[asked(all[i])], func(k int) bool {
				return !taken[k] && other.Exchanges[k].Time.Add(-off).Sub(all[i].Time).Abs() <= near
			})
			if k >= 0 {
				k = theirs[asked(all[i])][k]
				taken[k] = true
				all[i] = joined(all[i], other.Exchanges[k], first.Name, other.Name)
			} else if all[i].Answer == evidence.None && covers(other.Exchanges, all[i].Time.Add(off)) {
				mark(&all[i], evidence.MarkLostThere, fmt.Sprintf(
					"the question is in %s and not in %s: it was lost between them",
					first.Name, other.Name))
			}
		}
		for k, x := range other.Exchanges {
			if !taken[k] {
				x.Time = x.Time.Add(-off)
				all = append(all, x)
			}
		}
	}
	slices.SortStableFunc(all, func(a, b Exchange) int { return a.Time.Compare(b.Time) })
	return all
}

// question is what a question is the same by, in captures of two places.
type question struct{ client, server, asked, person string }

func asked(x Exchange) question {
	return question{client: x.Client, server: x.ServerAddress, asked: string(x.Question), person: x.Person}
}

// byQuestion returns where each question stands in a list, in its order.
func byQuestion(all []Exchange) map[question][]int {
	places := map[question][]int{}
	for i, x := range all {
		places[asked(x)] = append(places[asked(x)], i)
	}
	return places
}

// joined is one question that two places have.
func joined(a, b Exchange, here, there string) Exchange {
	answered := func(x Exchange) bool { return x.Answer != evidence.None && !x.Has(evidence.MarkUnheard) }
	if answered(a) == answered(b) {
		return a
	}
	from := here
	to := there
	x := a
	if answered(b) {
		from, to = there, here
		x.Key, x.AnswerKey = b.Key, b.AnswerKey
	}
	x.Answer = evidence.None
	mark(&x, evidence.MarkLostBack, fmt.Sprintf("the answer is in %s and not in %s: it was lost between them", from,
		to))
	return x
}

// covers reports whether a capture was running at a time.
func covers(all []Exchange, moment time.Time) bool {
	if len(all) == 0 {
		return true // it has nothing of it at all
	}
	return !moment.Before(all[0].Time.Add(-time.Minute)) && !moment.After(all[len(all)-1].Time.Add(time.Minute))
}

// apart is how far the clock of the second capture is ahead of that of the first: the
// middle of the differences of what both have.
func apart(a, b []Exchange) time.Duration {
	var durations []time.Duration
	theirs := byQuestion(b)
	for _, x := range a {
		if at := theirs[asked(x)]; len(at) > 0 {
			durations = append(durations, b[at[0]].Time.Sub(x.Time))
		}
	}
	if len(durations) == 0 {
		return 0
	}
	slices.Sort(durations)
	return durations[len(durations)/2]
}
