package gate_test

import (
	"context"
	"fmt"
	"testing"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	"mellowgate/internal/live/server/ledger/pgtest"
)

// A database server that lets people in by RADIUS knows nothing but the RFCs:
// it sends no Message-Authenticator, and reads the Access-Accept by itself.
func TestADatabaseServerThatAsksByRADIUSIsServed(t *testing.T) {
	t.Parallel()
	r := limited(t, "failure-delay: 0s")
	server := pgtest.Start(t,
		fmt.Sprintf(`host all "ines" 127.0.0.1/32 radius radiusservers="127.0.0.1" radiusports="%d" radiussecrets="%s" radiusidentifiers="ledger-db"`,
			r.radius.Authentication.Port(), key),
		fmt.Sprintf(`host all "nobody.here" 127.0.0.1/32 radius radiusservers="127.0.0.1" radiusports="%d" radiussecrets="%s"`,
			r.radius.Authentication.Port(), key),
		fmt.Sprintf(`host all "tobin" 127.0.0.1/32 radius radiusservers="127.0.0.1" radiusports="%d" radiussecrets="another-key"`,
			r.radius.Authentication.Port()))
	in := func(person, password string) error {
		config, err := pgx.ParseConfig(server.URL())
		require.NoError(t, err)
		config.User, config.Password = person, password
		conn, err := pgx.ConnectConfig(context.Background(), config)
		if err == nil {
			_ = conn.Close(context.Background())
		}
		return err
	}
	conn, err := pgx.Connect(context.Background(), server.URL())
	require.NoError(t, err)
	_, err = conn.Exec(context.Background(),
		`CREATE ROLE ines LOGIN; CREATE ROLE tobin LOGIN; CREATE ROLE "nobody.here" LOGIN`)
	require.NoError(t, err)
	require.NoError(t, conn.Close(context.Background()))

	require.NoError(t, in("ines", "right"))
	e := r.eventually("accepted")
	require.Equal(t, []string{"ines", "login", "r"}, []string{e.Person, string(e.Question), e.Server})
	require.ErrorContains(t, in("ines", "wrong"), "RADIUS authentication failed")
	r.eventually("wrong-password")
	require.ErrorContains(t, in("nobody.here", "right"), "RADIUS authentication failed")
	r.eventually("unknown-person")
	require.ErrorContains(t, in("tobin", "right"), "RADIUS authentication failed",
		"the answer to a question with another key is not taken")
}
