package gather_test

import (
	"fmt"
	"os"
	"path/filepath"
	"testing"

	"mellowgate/internal/core/diagnose"
)

func TestZZ(t *testing.T) {
	c, e := loadCase(t, filepath.Join(casesDir, os.Getenv("CASE")))
	for _, x := range e.Exchanges {
		fmt.Println(x.Time.Format("05.000"), x.AskedBy(), x.AskedOf(), x.Question, x.Answer, x.Seconds, x.Marks, x.Key, x.AnswerKey, x.Retransmissions)
	}
	v := diagnose.Explain(e, diagnose.Symptom{Device: c.Device, Person: c.Person})
	for _, k := range v.Causes {
		fmt.Println(k.Cause, k.Where, k.Confidence, k.Says)
		for _, s := range k.Evidence {
			fmt.Println("   +", s)
		}
		for _, s := range k.Against {
			fmt.Println("   -", s)
		}
	}
}
