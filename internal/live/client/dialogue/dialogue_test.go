package dialogue

import (
	"bufio"
	"fmt"
	"io"
	"net"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// facing begins a conversation with what a device does: it is given what is typed, and says.
func facing(t *testing.T, device func(typed *bufio.Reader, says io.Writer)) *Conversation {
	t.Helper()
	here, there := net.Pipe()
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		defer func() { _ = there.Close() }()
		device(bufio.NewReader(there), there)
	}()
	c := New(here, here, here)
	t.Cleanup(func() {
		c.Close()
		<-ended
	})
	return c
}

func ends(with string) func(string) bool {
	return func(line string) bool { return strings.HasSuffix(line, with) }
}

func says(text string) func(string) string { return func(string) string { return text } }

func TestAStepEndsWithWhatIsExpectedAndAnswersWhatIsAsked(t *testing.T) {
	t.Parallel()
	var typed []string
	c := facing(t, func(in *bufio.Reader, out io.Writer) {
		line := func() {
			text, _ := in.ReadString('\n')
			typed = append(typed, text)
		}
		line()
		_, _ = io.WriteString(out, "\r\nAre you sure? ")
		line()
		_, _ = io.WriteString(out, "one\r\ntwo\r\n--page--")
		_, _ = in.ReadByte()
		_, _ = io.WriteString(out, "\r        \rthree\r\nsw> ")
	})
	said, err := c.Run(Step{Type: "show all\n", Within: time.Minute, Expect: []Expect{
		{Name: "prompt", Ends: ends("> ")},
		{Name: "sure", Ends: ends("sure? "), Answer: says("yes\n")},
		{Name: "page", Ends: ends("--page--"), Answer: says(" "), Drop: true}}})
	require.NoError(t, err)
	require.Equal(t, "prompt", said.By)
	require.Equal(t, "sw> ", said.Line)
	require.Equal(t, "\nAre you sure? \none\ntwo\nthree\n", said.Above())
	require.Equal(t, []string{"show all\n", "yes\n"}, typed)
}

func TestAQuestionThatComesAgainIsAnsweredSoOftenAndNotMore(t *testing.T) {
	t.Parallel()
	asked := 0
	c := facing(t, func(in *bufio.Reader, out io.Writer) {
		for {
			asked++
			_, _ = io.WriteString(out, "word: ")
			if _, err := in.ReadString('\n'); err != nil {
				return
			}
		}
	})
	said, err := c.Run(
		Step{Within: time.Minute, Expect: []Expect{{Name: "word", Ends: ends("word: "), Answer: says("x\n"),
			Most: 2}}},
	)
	require.NoError(t, err)
	require.Equal(t, "word", said.By)
	require.Equal(t, 3, asked)
}

// A device that shows pages for ever, or writes without a pause, keeps nobody longer than was said.
func TestAStepTakesNoLongerThanItMayWhateverIsSaid(t *testing.T) {
	t.Parallel()
	for name, device := range map[string]func(in *bufio.Reader, out io.Writer){
		"pages": func(in *bufio.Reader, out io.Writer) {
			for n := 0; ; n++ {
				if _, err := fmt.Fprintf(out, "line %d\n--page--", n); err != nil {
					return
				}
				if _, err := in.ReadByte(); err != nil {
					return
				}
			}
		},
		"drops": func(_ *bufio.Reader, out io.Writer) {
			for {
				if _, err := io.WriteString(out, "."); err != nil {
					return
				}
				time.Sleep(time.Millisecond)
			}
		},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			c := facing(t, device)
			began := time.Now()
			_, err := c.Run(Step{Within: 300 * time.Millisecond, Quiet: 100 * time.Millisecond, Expect: []Expect{
				{
					Name: "prompt",
					Ends: ends("> "),
				}, {Name: "page", Ends: ends("--page--"), Answer: says(" "), Drop: true}}})
			require.Error(t, err)
			require.Less(t, time.Since(began), 20*time.Second)
		})
	}
}

func TestWhatIsSaidWithoutEndIsBounded(t *testing.T) {
	t.Parallel()
	c := facing(t, func(_ *bufio.Reader, out io.Writer) {
		for {
			if _, err := io.WriteString(out, strings.Repeat("port up\r\n", 500)); err != nil {
				return
			}
		}
	})
	said, err := c.Run(Step{Within: time.Minute, Expect: []Expect{{Name: "prompt", Ends: ends("> ")}}})
	require.ErrorIs(t, err, ErrEndless)
	require.Less(t, len(said.Text), 2*MostText)
}

func TestAPauseEndsAStepWhereThatIsWanted(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct {
		says string
		step Step
		by   string
		err  error
	}{
		"after a text": {"sw> ", Step{Quiet: 50 * time.Millisecond, Pauses: true}, "", nil},
		"what counts at rest only": {"more", Step{Quiet: 50 * time.Millisecond,
			Expect: []Expect{{Name: "rest", Ends: ends("more"), Rests: true}}}, "rest", nil},
		"nothing at first": {"", Step{First: 50 * time.Millisecond}, "", nil},
		"nothing at all":   {"", Step{Quiet: time.Millisecond, Within: 50 * time.Millisecond}, "", ErrQuiet},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			talk := facing(t, func(in *bufio.Reader, out io.Writer) {
				_, _ = io.WriteString(out, c.says)
				_, _ = in.ReadByte() // until the other end closes
			})
			if c.step.Within == 0 {
				c.step.Within = time.Minute
			}
			said, err := talk.Run(c.step)
			require.ErrorIs(t, err, c.err)
			require.Equal(t, c.by, said.By)
			require.Equal(t, c.says, said.Text)
		})
	}
}

// What counts at rest only is not taken in the middle of a text, and a page mark leaves no trace.
func TestWhatCountsAtRestWaitsForTheRest(t *testing.T) {
	t.Parallel()
	rested := make(chan struct{})
	c := facing(t, func(in *bufio.Reader, out io.Writer) {
		_, _ = io.WriteString(out, "one ")
		_, _ = io.WriteString(out, "two ")
		_, _ = in.ReadByte()
		_, _ = io.WriteString(out, "three ")
		<-rested
	})
	defer close(rested)
	began := time.Now()
	said, err := c.Run(Step{Within: time.Minute, Quiet: time.Second,
		Expect: []Expect{{Name: "rest", Ends: ends(" "),
			Rests: true, Most: 1, Drop: true, Answer: says("x")}}})
	require.NoError(t, err)
	require.Equal(t, Said{Text: "three ", Line: "three ", By: "rest", Last: said.Last}, said)
	require.True(t, said.Last.After(began))
	again, err := c.Run(Step{Within: time.Minute, Quiet: time.Millisecond, Pauses: true})
	require.NoError(t, err)
	require.Equal(t, "three ", again.Text, "what stood there before the step may rest")
	c.Clear()
	none, err := c.Run(Step{Within: time.Minute, First: time.Millisecond, Quiet: time.Millisecond, Pauses: true})
	require.NoError(t, err)
	require.Equal(t, Said{Last: said.Last}, none)
}

func TestAConnectionThatEndsEndsTheStep(t *testing.T) {
	t.Parallel()
	c := facing(t, func(_ *bufio.Reader, out io.Writer) { _, _ = io.WriteString(out, "too many\r\n") })
	said, err := c.Run(Step{Within: time.Minute, Expect: []Expect{{Name: "prompt", Ends: ends("> ")}}})
	require.ErrorIs(t, err, ErrClosed)
	require.Equal(t, "too many\n", said.Text)
}

// Wherever the text is cut into pieces, the same is shown.
func TestAScreenShowsWhatATerminalWouldShow(t *testing.T) {
	t.Parallel()
	for text, shown := range map[string]string{
		"plain\r\ntext\r\n> ":                                "plain\ntext\n> ",
		"\x1b[1mBold\x1b[0m and \x1b[31;1mred":               "Bold and red",
		"\x1b]0;a title\x07sw> ":                             "sw> ",
		"\x1b]0;a title\x1b\\sw> ":                           "sw> ",
		"--more--\r        \rport 2\r\n":                     "port 2\n",
		"--more--\r\x1b[Kport 2\r\n":                         "port 2\n",
		"--more--\x1b[2K\rup\x1b[K\r\n":                      "up\n",
		"--more--\b\b\b\b\b\b\b\b        \b\b\b\b\b\b\b\b> ": "> ",
		"\x1b=\x1b>\x1bMsw\x00> \x07":                        "sw> ",
		"abc\x1b[1K\x1b[Kd":                                  "   d",
		"caf\u00e9 \xff":                                     "caf\u00e9 \uFFFD",
		"\x1b!x":                                             "!x",
		"\x1b!\rabc":                                         "abc",
		"caf\u00e9 \xff\n> ":                                 "caf\u00e9 \uFFFD\n> ",
		"abcd\b\bx\r\n":                                      "abxd\n",
		"\bx":                                                "x",
	} {
		for size := 1; size <= len(text); size++ {
			var s screen
			for rest := []byte(text); len(rest) > 0; rest = rest[min(size, len(rest)):] {
				s.write(rest[:min(size, len(rest))])
			}
			require.Equal(t, shown, s.text(), "%q in pieces of %d", text, size)
		}
	}
}

func TestAVeryLongLineIsComparedByItsEnd(t *testing.T) {
	t.Parallel()
	var s screen
	s.write([]byte(strings.Repeat("x", 3*mostLine) + "sw> "))
	require.Len(t, s.end(), mostLine)
	require.True(t, strings.HasSuffix(s.end(), "sw> "))
}

// A device that says much is read in time that grows with what it says.
func BenchmarkReadingWhatADeviceSays(b *testing.B) {
	text := []byte(strings.Repeat("interface port 12 is up, 0 errors, last change never\r\n", 15_000) + "sw> ")
	b.SetBytes(int64(len(text)))
	for b.Loop() {
		here, there := net.Pipe()
		go func() { _, _ = there.Write(text) }()
		c := New(here, here, here)
		if _, err := c.Run(Step{Within: time.Minute, Expect: []Expect{
			{Name: "prompt", Ends: ends("sw> ")}}}); err != nil {
			b.Fatal(err)
		}
		c.Close()
	}
}
