package attributes

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"mellowgate/internal/core/site"
)

func parse(t *testing.T, text string) *site.Site {
	t.Helper()
	s, err := site.Parse(site.Source{Name: "site.yaml", Text: []byte(text)})
	require.NoError(t, err)
	return s
}

const vendors = `site: x
vendors:
  - name: example
    number: 32473
    attributes:
      - {name: Example-Level, number: 1, type: integer}
      - {name: Example-Name, number: 2, type: text}
      - {name: Example-Octets, number: 3, type: octets}
      - {name: Example-Address, number: 4, type: address}
      - {name: Example-Address6, number: 5, type: address6}
`

func TestTheAttributesOfAVendorAreMadeAndNamedInTheirForms(t *testing.T) {
	t.Parallel()
	d := Of(parse(t, vendors))
	require.Equal(t, []any{"example", uint32(32473), "vendor example"},
		[]any{d.Vendors[0].Name, d.Vendors[0].Number, d.Vendors[0].Attributes[0].Section})
	for name, c := range map[string]struct{ good, bad string }{
		"Example-Level":    {"7", "seven"},
		"Example-Name":     {"watch", ""},
		"Example-Octets":   {"0x00ff", ""},
		"Example-Address":  {"192.0.2.1", "2001:db8::1"},
		"Example-Address6": {"2001:db8::1", "192.0.2.1"},
	} {
		a, err := d.Make(name, c.good)
		require.NoError(t, err, name)
		named := d.Names(a)
		require.Len(t, named, 1)
		require.Equal(t, []string{name, c.good}, []string{named[0].Name, named[0].Value})
		if c.bad != "" {
			_, err = d.Make(name, c.bad)
			require.Error(t, err, name)
		}
	}
	require.Empty(t, Of(parse(t, "site: x\n")).Vendors)
}

func TestAttributesThatCannotBeMadeAreSaidWithTheirPlace(t *testing.T) {
	t.Parallel()
	const with = `keys: {k: file k}
servers: [{name: t, protocol: PROTOCOL, address: 192.0.2.1, key: k}]
platforms:
  - {name: a, behaviour: {level-attribute: Example-Level, account-attribute: Example-Name}}
  - {name: b, behaviour: {level-attribute: Example-Lvl}}
  - {name: c, behaviour: {account-attribute: No-Such, speaks: [radius, tacacs]}}
  - {name: d, behaviour: {account-attribute: No-Such, speaks: [tacacs]}}
roles:
  - {name: r, level: 15, send: {radius: [{name: Class, value: x}, {name: Example-Level, value: seven}]}}
`
	said := func(protocol string) (all []string) {
		for _, err := range Check(parse(t, vendors+strings.Replace(with, "PROTOCOL", protocol, 1))) {
			all = append(all, err.Error())
		}
		return all
	}
	all := said("radius")
	require.Len(t, all, 3, "%q", all)
	for i, want := range []string{`site.yaml:19:`, `site.yaml:15:`, `site.yaml:16:`} {
		require.Contains(t, all[i], want)
		require.Contains(t, all[i], "; add it to vendors, or use another")
	}
	require.Len(t, said("tacacs"), 2, "TACACS+ takes the name of any account attribute")
}
