package drift

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/require"
)

func nowhere(about About, name string) string { return "site.yaml:1:1" }

func TestDifferencesAreSaidInWordsAndSecretsByHowTheyDifferOnly(t *testing.T) {
	t.Parallel()
	want, have := Facts{}, Facts{}
	want.Say(Server, "tern", "port", "49")
	have.Say(Server, "tern", "port", "4949")
	want.Hide(Server, "tern", "key", "a-good-key-of-tern")
	have.Hide(Server, "tern", "key", "a-good-kye-of-tern")
	want.Say(Server, "tern", "source", "192.0.2.1")
	have.Say(Server, "tern", "for", "authentication")
	want.Say(Server, "plover", "port", "49")
	have.Say(Account, "old", "role", "admin")
	want.Say(List, "login", "methods", "tacacs-all, local")
	have.Say(List, "login", "methods", "local")
	want.Say(Group, "shore", "servers in order", "tern")
	have.Say(Group, "shore", "servers in order", "tern")
	var texts []string
	for _, d := range Compare(want, have, nowhere) {
		texts = append(texts, d.String())
		require.Equal(t, "site.yaml:1:1", d.Place)
		require.NotContains(t, fmt.Sprintf("%+v %#v", d, d), "a-good-k")
	}
	require.Equal(t, []string{
		"server plover is missing",
		"server tern: for is authentication, and the site sets none",
		"server tern: key is another: the same except for two characters swapped",
		"server tern: port is 4949, and should be 49",
		"server tern: source should be 192.0.2.1, and none is set",
		"list login: methods is local, and should be tacacs-all, local",
		"account old is on the device, and not in the site",
	}, texts)
	require.Empty(t, Compare(want, want, nowhere))
	require.Empty(t, Compare(Facts{}, Facts{}, nowhere))
}

func TestFactsOfASecondModelOnlyAdd(t *testing.T) {
	t.Parallel()
	a, b := Facts{}, Facts{}
	a.Say(Server, "tern", "port", "49")
	a.Say(Server, "tern", "source", "")
	b.Say(Server, "tern", "port", "50")
	b.Say(Server, "tern", "tries", "2")
	a.Join(b)
	require.Len(t, a, 2)
	require.Equal(t, "49", a[Key{Server, "tern", "port"}].Text)
}
