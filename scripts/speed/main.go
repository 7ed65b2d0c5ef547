// Command speed measures how fast a running serve answers, with its ledger, its events
// and its metrics, against the plainest program that answers the same client, in the same
// run and on the same cores. The client and the plain program share no code with the
// product: their packets are made here, from RFC 2865, RFC 2866 and RFC 8907.
//
//	go build -o /tmp/mellowgate ./cmd/mellowgate && go run ./scripts/speed /tmp/mellowgate
package main

import (
	"errors"
	"flag"
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"
)

// Where everything is, on loopback.
const (
	serverAt   = "127.94.0.1"
	clientAt   = "127.94.0.9"
	radiusPort = 18120
	recordPort = 18130
	tacacsPort = 18140
	sharedKey  = "a-key-for-measuring-only"
	person     = "ines"
	password   = "right"
)

// measure is one thing that is measured: it asks until the time is over, and returns how
// many were answered.
type measure struct {
	name   string
	wanted float64 // of the speed of the plain program
	ask    func(d time.Duration) (int, error)
}

func main() {
	plain := flag.Bool("plain", false, "be the plain program")
	each := flag.Duration("each", 3*time.Second, "how long each is asked")
	rounds := flag.Int("rounds", 5, "how often; the middle one counts")
	where := flag.String("dir", "", "the folder for what is written; the usual one for temporary files unless said")
	only := flag.String("only", "", "only what has these letters in its name")
	records := flag.String("records", "file", "where the plain program has its records: file or sqlite")
	flag.Parse()
	var err error
	switch {
	case *records != "file" && *records != "sqlite":
		err = errors.New("-records is file or sqlite")
	case *plain:
		err = servePlain(flag.Arg(0), *records)
	case flag.NArg() != 1:
		err = errors.New("name the built program: go run ./scripts/speed /tmp/mellowgate")
	default:
		err = compare(flag.Arg(0), *where, *only, *records, *each, *rounds)
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

// compare measures both, in turn, and prints what came of it.
func compare(program, where, only, kept string, each time.Duration, rounds int) error {
	dir, err := os.MkdirTemp(where, "speed-")
	if err != nil {
		return err
	}
	defer func() { _ = os.RemoveAll(dir) }()
	self, err := os.Executable()
	if err != nil {
		return err
	}
	if err := writeSite(dir, program); err != nil {
		return err
	}
	const first = "RADIUS logins, 64 on their way"
	requests := makeLogins()
	records := makeRecords()
	measures := []measure{
		{first, 0.6, func(d time.Duration) (int, error) { return askUDP(radiusPort, requests, 2, d) }},
		{"TACACS+ logins on 16 kept connections, 64 on their way", 0.6,
			func(d time.Duration) (int, error) { return askKept(16, 4, d) }},
		{"TACACS+ logins, a connection for each, 16 at once", 0.9,
			func(d time.Duration) (int, error) { return askEach(16, d) }},
		{"RADIUS records, safe on disk, 64 on their way", 1.0,
			func(d time.Duration) (int, error) { return askUDP(recordPort, records, 5, d) }},
	}
	measures = slices.DeleteFunc(measures, func(m measure) bool { return !strings.Contains(m.name, only) })
	if len(measures) == 0 {
		return fmt.Errorf("nothing has %q in its name", only)
	}
	serve := []string{program, "serve", "-state", filepath.Join(dir, "state"), filepath.Join(dir, "site.yaml")}
	figures := map[string][][]float64{"serve": make([][]float64, len(measures)),
		"plain": make([][]float64, len(measures))}
	costs := map[string][][]float64{"serve": make([][]float64, len(measures)),
		"plain": make([][]float64, len(measures))}
	var memory, greatest int
	for range rounds {
		for _, who := range []string{"plain", "serve"} {
			call := map[string][]string{"plain": {self, "-plain", "-records", kept, dir}, "serve": serve}[who]
			p, err := start(dir, call)
			if err != nil {
				return err
			}
			for i, m := range measures {
				if _, err := m.ask(each / 10); err != nil { // the first is not like the rest
					return errors.Join(fmt.Errorf("%s, %s: %w", who, m.name, err), p.end())
				}
				began, before := time.Now(), p.work()
				n, err := m.ask(each)
				if err != nil {
					return errors.Join(fmt.Errorf("%s, %s: %w", who, m.name, err), p.end())
				}
				figures[who][i] = append(figures[who][i], float64(n)/time.Since(began).Seconds())
				costs[who][i] = append(costs[who][i], float64((p.work()-before).Microseconds())/float64(n))
			}
			if who == "serve" {
				memory, _ = p.memory("VmRSS")
				greatest, _ = p.memory("VmHWM")
			}
			if err := p.end(); err != nil {
				return err
			}
		}
	}
	fmt.Printf("%-56s %9s %9s %6s %7s %20s\n", "", "plain /s", "serve /s", "ratio", "wanted", "us of a core for one")
	for i, m := range measures {
		a, b := middle(figures["plain"][i]), middle(figures["serve"][i])
		fmt.Printf("%-56s %9.0f %9.0f %6.2f %7.1f %9.1f %9.1f\n", m.name, a, b, b/a, m.wanted,
			middle(costs["plain"][i]),
			middle(costs["serve"][i]))
	}
	fmt.Printf("memory of serve: %d MiB at the end, %d MiB at most\n", memory>>10, greatest>>10)
	if measures[0].name != first {
		return nil
	}
	rate := middle(figures["serve"][0]) / 2
	fmt.Printf("RADIUS logins at %.0f a second, half of the most (wanted: p99 below 2 ms)\n", rate)
	for _, who := range []string{"plain", "serve"} {
		call := map[string][]string{"plain": {self, "-plain", "-records", kept, dir}, "serve": serve}[who]
		if err := late(dir, who, call, requests, rate, each); err != nil {
			return err
		}
	}
	return nil
}

// late measures how long answers take while half of what is possible is asked, steadily.
func late(dir, who string, call []string, requests [][]byte, rate float64, each time.Duration) error {
	p, err := start(dir, call)
	if err != nil {
		return err
	}
	if _, err := askUDP(radiusPort, requests, 2, each/10); err != nil {
		return errors.Join(err, p.end())
	}
	times, err := askSteadily(requests, rate, 2*each)
	if err := errors.Join(err, p.end()); err != nil {
		return err
	}
	slices.Sort(times)
	at := func(part float64) time.Duration {
		return times[min(len(times)-1, int(part*float64(len(times))))].Round(10 * time.Microsecond)
	}
	fmt.Printf("  %s: p50 %s, p99 %s, p99.9 %s\n", who, at(0.5), at(0.99), at(0.999))
	return nil
}

func middle(all []float64) float64 {
	all = slices.Clone(all)
	slices.Sort(all)
	return all[len(all)/2]
}

// writeSite writes a site with one device and one person, whose hash the program makes.
func writeSite(dir, program string) error {
	if err := os.WriteFile(filepath.Join(dir, "password"), []byte(password+"\n"), 0o600); err != nil {
		return err
	}
	hash := exec.Command(program, "keys", "hash", "-password-file", filepath.Join(dir, "password"))
	out, err := hash.Output()
	if err != nil {
		return fmt.Errorf("the password cannot be hashed: %w", err)
	}
	if err := os.WriteFile(filepath.Join(dir, "k.key"), []byte(sharedKey+"\n"), 0o600); err != nil {
		return err
	}
	return os.WriteFile(filepath.Join(dir, "site.yaml"), fmt.Appendf(nil, `site: Speed
keys: {k: file k.key}
servers:
  - {name: r, protocol: radius, address: %s, ports: {authentication: %d, accounting: %d}, key: k, run: true}
  - {name: t, protocol: tacacs, address: %s, port: %d, key: k, run: true}
devices: [{name: sw, addresses: [%s]}]
people: [{name: %s, teams: [net], password: %s}]
roles: [{name: all, level: 15, commands: [allow **]}]
grants: [{who: [team net], role: all}]
service: {metrics: "%s:18150"}
`, serverAt, radiusPort, recordPort, serverAt, tacacsPort, clientAt, person, strings.TrimSpace(string(out)),
		serverAt), 0o600)
}

// process is a program that runs.
type process struct{ *exec.Cmd }

// start starts a program and waits until it says that it is ready.
func start(dir string, call []string) (process, error) {
	p := process{exec.Command(call[0], call[1:]...)}
	p.Dir = dir
	said, err := p.StderrPipe()
	if err != nil {
		return p, err
	}
	if err := p.Start(); err != nil {
		return p, err
	}
	ready := make(chan error, 1)
	go func() {
		text, told := "", false
		b := make([]byte, 4096)
		for {
			n, err := said.Read(b)
			if text += string(b[:n]); !told && strings.Contains(text, "ready") {
				told = true
				ready <- nil
			}
			if err != nil {
				if !told {
					ready <- fmt.Errorf("%s did not start: %s", call[0], text)
				}
				return
			}
		}
	}()
	return p, <-ready
}

// memory returns a figure of the process, in KiB.
func (p process) memory(what string) (int, error) {
	text, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", p.Process.Pid))
	if err != nil {
		return 0, err
	}
	found := regexp.MustCompile(what + `:\s+(\d+) kB`).FindSubmatch(text)
	if found == nil {
		return 0, io.EOF
	}
	return strconv.Atoi(string(found[1]))
}

// work returns how long the process has used a core, of the program and of the system for
// it.
func (p process) work() time.Duration {
	text, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", p.Process.Pid))
	if err != nil {
		return 0
	}
	_, rest, _ := strings.Cut(string(text), ") ")
	fields := strings.Fields(rest)
	user, _ := strconv.Atoi(fields[11])
	system, _ := strconv.Atoi(fields[12])
	return time.Duration(user+system) * 10 * time.Millisecond // ticks of a hundredth of a second
}

func (p process) end() error {
	if err := p.Process.Signal(os.Interrupt); err != nil {
		return err
	}
	err := p.Wait()
	var ended *exec.ExitError
	if errors.As(err, &ended) {
		return nil
	}
	return err
}

// from is the address that everything is asked from.
func from() *net.TCPAddr { return &net.TCPAddr{IP: net.ParseIP(clientAt)} }
