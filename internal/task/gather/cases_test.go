package gather_test

import (
	"fmt"
	"os"
	"strings"
	"testing"
	"time"

	"mellowgate/internal/core/diagnose"
)

// every makes a case for each variant.
func every(t *testing.T, some []variant, name, how string, causes []string, person string, parts map[string]string,
	do func(*studio, variant, int)) {
	for n, v := range some {
		c := aCase{Causes: causes, How: how, Device: v.device, Way: v.way, Person: person, Held: (n+len(name))%3 == 0}
		record(t, named(name, n, v), c, parts, nil, func(s *studio) { do(s, v, n) })
	}
}

func TestMakeCases(t *testing.T) {
	t.Parallel()
	if !*makeCases {
		t.Skip("the cases are made with -make-cases")
	}
	if err := os.RemoveAll(casesDir); err != nil {
		t.Fatal(err)
	}
	casesOfServers(t)
	casesOfPeople(t)
	casesOfDesign(t)
	casesByHand(t)
	casesOfHealth(t)
}

func casesOfServers(t *testing.T) {
	enter := func(s *studio, v variant) { s.login(v.device, v.way, "ines", "") }
	for name, fault := range map[string]string{diagnose.KeyDiffers: "key-differs",
		diagnose.ClientUnknown: "client-unknown", diagnose.ServerOff: "closed", diagnose.Unreachable: "silent"} {
		every(t, variants, name, "a lab; the servers are "+fault+" for this device alone", []string{name}, "ines", nil,
			func(s *studio, v variant, n int) {
				s.login(v.device+"-2", "ssh", "ines", "")
				s.set(forDevice(v, both(v, fault))...)
				enter(s, v)
				s.login(v.device+"-2", "ssh", "tobin", "")
			})
	}
	for name, fault := range map[string]string{diagnose.ServerOff: "closed", diagnose.Unreachable: "silent"} {
		every(t, variants, name+"-for-all", "a lab; the servers are "+fault+" for everybody", []string{name}, "ines",
			nil,
			func(s *studio, v variant, n int) {
				s.set(both(v, fault)...)
				enter(s, v)
			})
	}
	held := map[string]string{"APHOLDS": ", found: {keys: {r1: kx}}"}
	every(t, radiuses[:2], diagnose.KeyDiffers+"-held",
		"a lab; the device holds a key with two letters swapped, and the site knows it", []string{diagnose.KeyDiffers},
		"ines", held, func(s *studio, v variant, n int) { enter(s, v) })
	source := map[string]string{"APHOLDS": ", found: {source: 192.0.2.99}", "SWHOLDS": ", found: {source: 192.0.2.98}"}
	every(t, variants[:2], diagnose.ClientUnknown+"-held",
		"a lab; the device asks from another address, and the site knows it", []string{diagnose.ClientUnknown}, "ines",
		source, func(s *studio, v variant, n int) { enter(s, v) })
	for n, ports := range []string{"{authentication: 1645}", "{authentication: 1912}"} {
		parts := map[string]string{"APHOLDS": ", found: {ports: {r1: " + ports + "}}"}
		every(t, radiuses[n:n+2], fmt.Sprintf("%s-%d", diagnose.WrongPort, n),
			"a lab; the device asks another port: "+ports,
			[]string{diagnose.WrongPort}, "ines", parts, func(s *studio, v variant, _ int) { enter(s, v) })
	}
	for n, ports := range []string{"{accounting: 1646}", "{accounting: 1913}"} {
		parts := map[string]string{"APHOLDS": ", found: {ports: {r1: " + ports + "}}"}
		every(t, radiuses[n:n+2], fmt.Sprintf("%s-%d", diagnose.AccountingPort, n),
			"a lab; the device sends its records to another port: "+ports, []string{diagnose.AccountingPort}, "ines",
			parts,
			func(s *studio, v variant, _ int) { enter(s, v) })
	}
	every(t, radiuses[:2], diagnose.AccountingPort+"-off", "a lab; the server takes no records",
		[]string{diagnose.AccountingPort}, "ines", nil, func(s *studio, v variant, _ int) {
			s.set("r1 no-accounting")
			enter(s, v)
		})
	every(t, overTCP, diagnose.RecordNotKept, "a lab; the servers answer records with an error",
		[]string{diagnose.RecordNotKept}, "ines", nil, func(s *studio, v variant, _ int) {
			s.set("t1 no-accounting", "t2 no-accounting")
			enter(s, v)
		})
	every(t, variants, diagnose.TooSlow, "a lab; the servers answer after the device gave up",
		[]string{diagnose.TooSlow},
		"ines", nil, func(s *studio, v variant, n int) {
			s.set(both(v, []string{"slow 600ms", "slow 900ms"}[n%2])...)
			enter(s, v)
			time.Sleep(1200 * time.Millisecond) // the late answers come into the capture
		})
	every(t, variants, diagnose.Resting, "a lab; the servers were silent, and are back while the device leaves "+
		"them alone",
		[]string{diagnose.Resting}, "ines", map[string]string{"REST": "1h"}, func(s *studio, v variant, n int) {
			s.set(forDevice(v, both(v, []string{"silent", "closed"}[n%2]))...)
			enter(s, v)
			s.lift()
			s.login(v.device+"-2", "ssh", "ines", "")
			enter(s, v)
		})
	book := map[string]string{"DIRECTORIES": "[d1]"}
	for name, fault := range map[string]string{diagnose.DirectoryDown: "silent",
		diagnose.DirectoryRefusesUs: "key-differs"} {
		every(t, variants, name, "a lab; the directory is "+fault, []string{name}, "ebba", book,
			func(s *studio, v variant, n int) {
				if name == diagnose.DirectoryDown && n%2 == 1 {
					fault = "error"
				}
				s.set("d1 " + fault)
				s.login(v.device, v.way, "ebba", "")
			})
	}
	every(t, variants, diagnose.DirectoryNoEntry, "a lab; a name that the directory does not know",
		[]string{diagnose.DirectoryNoEntry}, "stranger", book, func(s *studio, v variant, n int) {
			s.login(v.device, v.way, "stranger", "")
		})
}

func casesOfPeople(t *testing.T) {
	refused := func(name, how, person, password string, parts map[string]string, some []variant) {
		what, _, _ := strings.Cut(name, "/")
		every(t, some, strings.ReplaceAll(name, "/", "-"), how, []string{what}, person, parts,
			func(s *studio, v variant, n int) {
				s.login(v.device+"-2", "ssh", "ines", "")
				s.login(v.device, v.way, person, password)
			})
	}
	refused(diagnose.WrongPassword, "a lab; a wrong password", "ines", "wrong", nil, variants)
	refused(diagnose.UnknownPerson, "a lab; a name with a typing slip", "inse", "", nil, variants)
	refused(diagnose.DisabledOrExpired, "a lab; somebody who is disabled", "odd", "", nil, variants[:2])
	refused(diagnose.DisabledOrExpired+"/until", "a lab; somebody whose time is over", "late", "", nil, variants[2:])
	refused(diagnose.NoGrant, "a lab; nobody grants this person anything", "alone", "", nil, variants[:2])
	refused(diagnose.NoGrant+"/where", "a lab; the grant is for another place", "tobin", "",
		map[string]string{"GRANT": "where: {place: [office]},"}, variants[2:])
	refused(diagnose.LocalWhileServerAnswers, "a lab; the local account while servers answer", "keeper", "", nil,
		variants)
	refused(diagnose.SecondFactor, "a lab; the code is asked for and not given", "coded", "", nil, variants)
	refused(diagnose.SecondFactor+"/wrong", "a lab; a wrong code right after the password", "coded",
		rightPassword+"000000", nil, variants[:2])
	for n, form := range []string{"{radius: chap, tacacs: chap}", "{radius: mschapv2, tacacs: mschapv2}"} {
		refused(fmt.Sprintf("%s/%d", diagnose.PasswordForm, n),
			"a lab; the device sends "+form+", and the password is a hash", "ines", "",
			map[string]string{"TRAITS": ", password-form: " + form}, variants[n:n+2])
	}
	every(t, overTCP, diagnose.CommandRefused, "a lab; a command that the role refuses",
		[]string{diagnose.CommandRefused},
		"tobin", nil, func(s *studio, v variant, n int) {
			s.login(v.device, v.way, "tobin", "", "look counters")
		})
}

func casesOfDesign(t *testing.T) {
	every(t, overTCP, diagnose.CommandStuck, "a lab; commands are asked of servers alone, and these are silent",
		[]string{diagnose.CommandStuck}, "keeper", map[string]string{"TC": "[group tac]"},
		func(s *studio, v variant, n int) {
			s.set("t1 silent", "t2 silent")
			s.login(v.device, v.way, "keeper", "", "look session")
		})
	every(t, variants, diagnose.FallbackUsed, "a lab; the local account while servers are away",
		[]string{diagnose.FallbackUsed}, "keeper", nil, func(s *studio, v variant, n int) {
			s.set(both(v, []string{"silent", "closed"}[n%2])...)
			s.login(v.device, v.way, "keeper", "")
		})
	every(t, variants, diagnose.NoFallback, "a lab; the list ends with servers, and these are away",
		[]string{diagnose.Unreachable, diagnose.NoFallback}, "ines",
		map[string]string{"TL": "[group tac]", "RL": "[group rad]"}, func(s *studio, v variant, n int) {
			s.set(both(v, "silent")...)
			s.login(v.device, v.way, "ines", "")
		})
	every(t, overTCP, diagnose.SessionRefused,
		"a lab; the session is asked of servers alone, and these are away for the local account",
		[]string{diagnose.Unreachable, diagnose.SessionRefused}, "keeper", map[string]string{"TS": "[group tac]"},
		func(s *studio, v variant, n int) {
			s.set("t1 silent", "t2 silent")
			s.login(v.device, v.way, "keeper", "")
		})
	every(t, overTCP[:3], diagnose.NoRights, "a lab; no session is asked for, so the level is 1",
		[]string{diagnose.NoRights}, "ines", map[string]string{"SWSESSION": ""}, func(s *studio, v variant, n int) {
			s.login(v.device, v.way, "ines", "")
		})
	template := map[string]string{"TRAITS": ", account-attribute: Filter-Id", "ROLE": ", account: nobody-here"}
	every(t, radiuses, diagnose.TemplateMissing, "a lab; the role names a local account that is not on the device",
		[]string{diagnose.TemplateMissing}, "ines", template, func(s *studio, v variant, n int) {
			s.login(v.device, v.way, "ines", "")
		})
	for n, v := range variants {
		lists := map[string]string{"TL": "[local]", "RL": "[local]"}
		c := aCase{Causes: []string{diagnose.WrongList},
			How: "a lab whose device asks no server at all; the site says that it does", Device: v.device, Way: v.way,
			Person: "keeper", Held: n == 1}
		record(t, named(diagnose.WrongList, n, v), c, lists, map[string]string{},
			func(s *studio) { s.login(v.device, v.way, "keeper", "wrong") })
	}
	every(t, variants, diagnose.TooSlow+"-patience", "a lab; the way in gives up before the lists end",
		[]string{diagnose.Unreachable, diagnose.TooSlow}, "keeper",
		map[string]string{"TRAITS": ", login-timeout: 300ms"},
		func(s *studio, v variant, n int) {
			s.set(both(v, "silent")...)
			s.login(v.device, v.way, "keeper", "")
		})
}

func casesOfHealth(t *testing.T) {
	every(t, variants, "healthy", "a lab; a login and its goodbye", []string{}, "ines", nil,
		func(s *studio, v variant, n int) {
			s.login(v.device, v.way, "ines", "", "look session")
		})
	every(t, variants, "healthy-low-role", "a lab; somebody whose role has level 1", []string{}, "tobin", nil,
		func(s *studio, v variant, n int) {
			s.login(v.device, v.way, "tobin", "")
		})
	every(t, variants[:2], "healthy-directory", "a lab; somebody whom the directory knows", []string{}, "ebba",
		map[string]string{"DIRECTORIES": "[d1]"}, func(s *studio, v variant, n int) {
			s.login(v.device, v.way, "ebba", "")
		})
	every(t, variants[:2], "healthy-slow-enough", "a lab; the servers are slow, and quick enough", []string{}, "ines",
		nil,
		func(s *studio, v variant, n int) {
			s.set(both(v, "slow 60ms")...)
			s.login(v.device, v.way, "ines", "")
		})
	every(t, radiuses[:2], "healthy-lossy", "a lab; packets get lost and are sent again", []string{}, "ines", nil,
		func(s *studio, v variant, n int) {
			s.login(v.device, v.way, "ines", "")
		})
	every(t, variants, "healthy-others-fail", "a lab; another device has the wrong key, this one is well", []string{},
		"ines", nil, func(s *studio, v variant, n int) {
			s.set(both(v, "key-differs for "+v.device+"-2")...)
			s.login(v.device+"-2", "ssh", "tobin", "")
			s.login(v.device, v.way, "ines", "")
		})
}
