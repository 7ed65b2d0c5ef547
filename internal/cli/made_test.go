package cli

import (
	"bytes"
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"mellowgate/internal/cli/call"
	"mellowgate/internal/randomsite"
	"mellowgate/internal/testscale"
)

const madeHash = "$argon2id$v=19$m=64,t=1,p=1$/DK4+9eTk2nKWXODz0M2jg$zGdMTbpjrhYAJNqtzSU0WdiIqGHWGv2I2pNLlKPVFEw"

// Whatever a site lacks of what a site may have, each command that works something out of it ends
// with an answer, and none in a crash.
func TestASiteThatLacksThingsEndsNoCommandInACrash(t *testing.T) {
	t.Parallel()
	for seed := range int64(testscale.Of(20, 60)) {
		t.Run(fmt.Sprint(seed), func(t *testing.T) {
			t.Parallel()
			dir := t.TempDir()
			path := filepath.Join(dir, "site.yaml")
			text := randomsite.Text(seed, madeHash, madeHash)
			require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
			for _, key := range []string{"a", "b"} {
				require.NoError(t, os.WriteFile(filepath.Join(dir, key), []byte("a key of twenty-two let"), 0o600))
			}
			for _, line := range [][]string{{"check"}, {"check", "-assume"}, {"check", "-format", "sarif"}, {"foresee"},
				{"foresee", "-json"}, {"foresee", "-matrix"}, {"foresee", "-load"}, {"foresee", "-compare", path},
				{"sheet", "d-1"}, {"sheet", "d-2"}, {"render", "d-1"},
				{"report", "-write", filepath.Join(dir, "report.html")}} {
				var out, errs bytes.Buffer
				status := Main(context.Background(), append(line, path), strings.NewReader(""), &out, &errs)
				require.LessOrEqual(t, status, call.ExitNo, "%v: %s\n%s", line, errs.String(), text)
				require.NotEmpty(t, out.String()+errs.String(), "%v", line)
			}
		})
	}
}
