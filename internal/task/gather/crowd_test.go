package gather

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/require"

	"mellowgate/internal/core/evidence"
	"mellowgate/internal/core/site"
)

// crowdOf are events of so many people, one each, with an answer.
func crowdOf(n int, name string, answer evidence.Answer) (events []evidence.Event) {
	for i := range n {
		events = append(events, evidence.Event{Device: "sw", Person: fmt.Sprint(name, i), Question: site.AskLogin,
			Answer: answer})
	}
	return events
}

func TestWhatIsLeftOutOfACrowdIsCounted(t *testing.T) {
	t.Parallel()
	few := append(crowdOf(mostNo, "no", evidence.Refused), crowdOf(mostOthers, "well", evidence.Accepted)...)
	some, left := thinned(few)
	require.Equal(t, few, some, "what is no crowd stays whole")
	require.Zero(t, left)

	asked := evidence.Event{Device: "sw", Person: "no299", Question: site.AskLogin, Answer: evidence.Challenged}
	many := append([]evidence.Event{asked}, crowdOf(1000, "well", evidence.Accepted)...)
	many = append(many, crowdOf(300, "no", evidence.Refused)...)
	some, left = thinned(many)
	require.Equal(t, asked, some[0], "what belongs to a login that failed stays with it")
	require.Equal(t, "well950", some[1].Person, "of the others the newest")
	require.Equal(t, "no200", some[1+mostOthers].Person, "and of the failures too")
	require.Len(t, some, 1+mostOthers+mostNo)
	require.Equal(t, LeftOut{All: 950 + 200, No: 200}, left)
}
