package mschap

import (
	"encoding/hex"
	"encoding/json"
	"os"
	"testing"

	"github.com/stretchr/testify/require"
)

// The example of RFC 2759, section 9.2.
func TestTheExampleOfTheRFC(t *testing.T) {
	t.Parallel()
	text, err := os.ReadFile("../testdata/rfc-examples.json")
	require.NoError(t, err)
	var all []map[string]string
	require.NoError(t, json.Unmarshal(text, &all))
	rfc := all[len(all)-1]
	m := Exchange{User: rfc["user"]}
	_, err = hex.Decode(m.AuthenticatorChallenge[:], []byte(rfc["authenticator_challenge"]))
	require.NoError(t, err)
	_, err = hex.Decode(m.PeerChallenge[:], []byte(rfc["peer_challenge"]))
	require.NoError(t, err)
	require.Equal(t, rfc["challenge"], hex.EncodeToString(m.challengeHash()))
	require.Equal(t, rfc["password_hash"], hex.EncodeToString(passwordHash(rfc["password"])))
	response := m.NTResponse(rfc["password"])
	require.Equal(t, rfc["nt_response"], hex.EncodeToString(response[:]))
	require.Equal(t, rfc["authenticator_response"], m.Success(rfc["password"]))
	require.True(t, m.Check(response[:], rfc["password"]))
	require.False(t, m.Check(response[:], rfc["password"]+"x"))
	require.False(t, m.Check(response[:8], rfc["password"]))
	withDomain := m
	withDomain.User = `DOMAIN\` + m.User
	require.Equal(t, m.NTResponse("x"), withDomain.NTResponse("x"), "a domain before the name does not count")
}
