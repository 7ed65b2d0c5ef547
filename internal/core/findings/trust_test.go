package findings

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"mellowgate/internal/core/foresee"
	"mellowgate/internal/core/site"
)

func TestCertificatesAreLookedAt(t *testing.T) {
	t.Parallel()
	s, err := site.Parse(site.Source{Name: "site.yaml", Text: []byte(base)})
	require.NoError(t, err)
	t1, t2 := s.Server("t1"), s.Server("t2")
	t1.Certificates.Place = t1.Place
	found := func(shown ...Certificate) Report {
		return Check(foresee.Forecaster{Site: s, Keys: keysOf(s), Now: now, Assume: true}, Facts{Shown: shown})
	}
	day := 24 * time.Hour
	require.Empty(t, found(Certificate{Server: t1, Ends: now.Add(31 * day), Names: true}).Findings)
	r := found(Certificate{Server: t1, Ends: now.Add(3*day + time.Hour), Names: true})
	require.Equal(t, []string{"certificate-ends-soon"}, codesOf(r))
	require.Equal(t, "The certificate of t1 ends on 2026-11-26, in 3 days; from then on no device takes it.",
		r.Findings[0].Text)
	r = found(Certificate{Server: t2, Ends: now.Add(90 * day), Bears: "printer.example"})
	require.Equal(t, []string{"certificate-names-nobody"}, codesOf(r))
	require.Contains(t, r.Findings[0].Text,
		"bears printer.example, and neither the server's name nor its address 192.0.2.2")
	r = found(Certificate{Server: t1, Problem: "the certificate x ended on 2026-01-01"})
	require.Equal(t, []string{"certificate-unusable"}, codesOf(r), "and nothing else of it")
	require.Contains(t, r.Findings[0].Text, "No device can ask t1 over TLS: the certificate x ended on 2026-01-01.")
}
