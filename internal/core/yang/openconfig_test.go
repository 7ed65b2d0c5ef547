package yang_test

import (
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/require"

	"mellowgate/internal/core/yang"
)

// The data of OpenConfig's model has every part of the design, each in its
// place, as the model draws it.
func TestOpenConfigDataHasEveryPartOfTheDesign(t *testing.T) {
	t.Parallel()
	open, _ := yang.OpenSystemOf(plan(t, "sw"), func(name string) string { return "value of " + name })
	text, err := open.JSON()
	require.NoError(t, err)
	var data map[string]any
	require.NoError(t, json.Unmarshal(text, &data))
	at := func(path ...any) any {
		var v any = data
		for _, p := range path {
			switch p := p.(type) {
			case string:
				m, ok := v.(map[string]any)
				require.True(t, ok, "%v in %s", path, text)
				v = m[p]
			case int:
				list, ok := v.([]any)
				require.True(t, ok && len(list) > p, "%v in %s", path, text)
				v = list[p]
			}
		}
		return v
	}
	aaa := []any{"openconfig-system:system", "aaa"}
	in := func(path ...any) any { return at(append(append([]any{}, aaa...), path...)...) }
	group := func(g int, path ...any) any {
		return in(append([]any{"server-groups", "server-group", g}, path...)...)
	}
	tacacs := func(s int, name string) any { return group(1, "servers", "server", s, "tacacs", "config", name) }
	radius := func(s int, name string) any { return group(0, "servers", "server", s, "radius", "config", name) }
	for _, c := range []struct{ want, got any }{
		{"t", group(1, "name")},
		{"t", group(1, "config", "name")},
		{"openconfig-aaa:TACACS", group(1, "config", "type")},
		{"openconfig-aaa:RADIUS", group(0, "config", "type")},
		{"192.0.2.1", group(1, "servers", "server", 0, "address")},
		{"t1", group(1, "servers", "server", 0, "config", "name")},
		{"192.0.2.1", group(1, "servers", "server", 0, "config", "address")},
		{2.0, group(1, "servers", "server", 0, "config", "timeout")},
		{49.0, tacacs(0, "port")},
		{4949.0, tacacs(1, "port")},
		{"value of k", tacacs(0, "secret-key")},
		{"value of k2", tacacs(1, "secret-key")},
		{"192.0.2.11", tacacs(0, "source-address")},
		{1812.0, radius(0, "auth-port")},
		{1813.0, radius(0, "acct-port")},
		{1645.0, radius(1, "auth-port")},
		{1646.0, radius(1, "acct-port")},
		{"value of k", radius(0, "secret-key")},
		{"192.0.2.11", radius(0, "source-address")},
		{3.0, radius(0, "retransmit-attempts")},
		{"keeper", in("authentication", "users", "user", 0, "username")},
		{"keeper", in("authentication", "users", "user", 0, "config", "username")},
		{hash, in("authentication", "users", "user", 0, "config", "password-hashed")},
		{"openconfig-aaa-types:SYSTEM_ROLE_ADMIN", in("authentication", "users", "user", 0, "config", "role")},
		{"looker", in("authentication", "users", "user", 1, "username")},
		{nil, in("authentication", "users", "user", 1, "config", "role")},
		{"t", in("authentication", "config", "authentication-method", 0)},
		{"openconfig-aaa-types:LOCAL", in("authentication", "config", "authentication-method", 2)},
		{"openconfig-aaa-types:AAA_ACCOUNTING_EVENT_LOGIN", in("accounting", "events", "event", 0, "event-type")},
		{"START_STOP", in("accounting", "events", "event", 0, "config", "record")},
		{"openconfig-aaa-types:AAA_ACCOUNTING_EVENT_COMMAND", in("accounting", "events", "event", 1, "event-type")},
		{"STOP", in("accounting", "events", "event", 1, "config", "record")},
		{"t", in("accounting", "config", "accounting-method", 0)},
	} {
		require.Equal(t, c.want, c.got, string(text))
	}
}
