package watch

import (
	"fmt"
	"io"
	"math"
	"slices"
	"time"

	dto "github.com/prometheus/client_model/go"
	"github.com/prometheus/common/expfmt"
	"github.com/prometheus/common/model"

	"mellowgate/internal/core/evidence"
)

// The metrics that a screen reads, by the names that a service gives them.
const (
	MetricAnswers  = "mellowgate_answers_total"
	MetricTook     = "mellowgate_answer_seconds"
	MetricChecking = "mellowgate_passwords_checking"
	MetricWaiting  = "mellowgate_records_waiting"
	MetricEnds     = "mellowgate_certificate_end_timestamp_seconds"
	LabelServer    = "server"
	LabelAnswer    = "answer"
)

// Read reads the metrics of a service, in the text form of Prometheus. What is wrong
// with it they do not say in words: Troubles is empty.
func Read(text io.Reader) (Figures, error) {
	parser := expfmt.NewTextParser(model.UTF8Validation)
	families, err := parser.TextToMetricFamilies(text)
	if err != nil {
		return Figures{}, fmt.Errorf("these are no metrics: %w", err)
	}
	f := Figures{Servers: map[string]Served{}, Ends: map[string]time.Time{}}
	change := func(m *dto.Metric, by func(*Served)) {
		s := f.Servers[label(m, LabelServer)]
		by(&s)
		f.Servers[label(m, LabelServer)] = s
	}
	for _, m := range families[MetricAnswers].GetMetric() {
		change(m, func(s *Served) {
			if label(m, LabelAnswer) == string(evidence.Dropped) {
				s.Dropped += m.GetCounter().GetValue()
			} else {
				s.Answers += m.GetCounter().GetValue()
			}
		})
	}
	for _, m := range families[MetricTook].GetMetric() {
		change(m, func(s *Served) { s.Took = plus(s.Took, m.GetHistogram()) })
	}
	for _, m := range families[MetricEnds].GetMetric() {
		f.Ends[label(m, LabelServer)] = time.Unix(int64(m.GetGauge().GetValue()), 0)
	}
	for _, m := range families[MetricChecking].GetMetric() {
		f.Checking += m.GetGauge().GetValue()
	}
	for _, m := range families[MetricWaiting].GetMetric() {
		f.Waiting += m.GetGauge().GetValue()
	}
	return f, nil
}

func label(m *dto.Metric, name string) string {
	for _, l := range m.GetLabel() {
		if l.GetName() == name {
			return l.GetValue()
		}
	}
	return ""
}

// plus adds a histogram to buckets; all of a service have the same bounds.
func plus(took []Bucket, h *dto.Histogram) []Bucket {
	add := func(upTo time.Duration, count float64) {
		i := slices.IndexFunc(took, func(b Bucket) bool { return b.UpTo == upTo })
		if i < 0 {
			took = append(took, Bucket{UpTo: upTo})
			i = len(took) - 1
		}
		took[i].Count += count
	}
	for _, b := range h.GetBucket() {
		if !math.IsInf(b.GetUpperBound(), 1) {
			add(time.Duration(math.Round(b.GetUpperBound()*1e9)), float64(b.GetCumulativeCount()))
		}
	}
	add(Unbounded, float64(h.GetSampleCount()))
	return took
}
