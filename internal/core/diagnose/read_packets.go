package diagnose

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"mellowgate/internal/core/evidence"
	"mellowgate/internal/core/site"
)

func aQuestion(q site.Question) string {
	if q == site.AskLogin {
		return "a login"
	}
	return "a question about " + string(q)
}

// markWords are the signs of what a capture shows of one exchange.
var markWords = map[evidence.Mark]Shows{evidence.MarkMalformed: malformedSign, evidence.MarkUnverified: answerUnfitSign,
	evidence.MarkForged: forgedSign, evidence.MarkStray: forgedSign, evidence.MarkPortClosed: closedSign,
	evidence.MarkNoWay: noWaySign, evidence.MarkNoSynAck: noConnectionSign, evidence.MarkTLSOnClear: mixedSign,
	evidence.MarkClearOnTLS: mixedSign, evidence.MarkMixed: mixedSign, evidence.MarkLegacyPort: legacyPortSign,
	evidence.MarkLate: lateSign, evidence.MarkNoServer: otherPortSign, evidence.MarkClientUnknown: unknownSign,
	evidence.MarkClearBody: malformedSign, evidence.MarkUnheard: unheardSign, evidence.MarkElsewhere: elsewhereSign,
	evidence.MarkUnsigned: unsignedAnswer, evidence.MarkUnacked: unackedSign, evidence.MarkBigLost: bigLostSign,
	evidence.MarkTooBig: bigLostSign, evidence.MarkCutOff: cutOffSign, evidence.MarkNoHost: noHostSign,
	evidence.MarkLostThere: lostThereSign, evidence.MarkLostBack: unheardSign,
	evidence.MarkTLSAlert: tlsSign, evidence.MarkDirRefuses: dirRefusesSign, evidence.MarkDirNoBase: dirNoBaseSign}

// gaveUpAfter is from how many seconds on a connection without an answer was
// ended by who asked, rather than closed at once by the server.
const gaveUpAfter = 0.3

// packetSigns are what one exchange shows about why it has no answer.
func packetSigns(x evidence.Exchange, server string) signs {
	var all signs
	say := func(what Shows, text string) {
		all = append(all, Sign{What: what, From: evidence.FromCapture, Time: x.Time, Server: server, Asked: x.Question,
			Text: text, Key: x.KeyUsed})
	}
	question := fmt.Sprintf("%s: %s to %s", clock(x.Time), strings.TrimPrefix(aQuestion(x.Question), "a "), server)
	if x.Question == site.AskConnect {
		question = fmt.Sprintf("%s: a connection to %s", clock(x.Time), server)
	}
	marked := false
	for _, m := range x.Marks {
		what, ok := markWords[m]
		if !ok || m == evidence.MarkUnverified && x.Has(evidence.MarkForged) {
			continue
		}
		marked = true
		say(what, question+": "+x.Says[m])
	}
	ended := slices.Contains(x.Marks, evidence.MarkEndedEarly)
	switch {
	case x.Key == evidence.KeyUnfit && !slices.Contains(x.Marks, evidence.MarkForged):
		say(unfitSign, question+": it was not made with the key of "+server)
	case x.AnswerKey == evidence.KeyUnfit && x.Protocol != "radius":
		say(answerUnfitSign, question+": the answer was not made with the key of the site")
	case x.Key == evidence.KeyFits:
		say(fitsSign, question+": it was made with the right key")
	}
	switch {
	case slices.Contains(x.Marks, evidence.MarkStillOpen) && x.Seconds < gaveUpAfter:
		say(openSign, question+": the connection stands; the capture ends before an answer could come")
	case slices.Contains(x.Marks, evidence.MarkStillOpen):
		say(gaveUpSign, fmt.Sprintf("%s: no answer in %.1f s on an open connection, and then the capture ends",
			question,
			x.Seconds))
	case ended && x.Seconds < gaveUpAfter:
		say(droppedConnSign, fmt.Sprintf("%s: %s (%.0f ms later)", question, x.Says[evidence.MarkEndedEarly],
			1000*x.Seconds))
	case ended:
		say(gaveUpSign, fmt.Sprintf("%s: no answer in %.1f s on an open connection, and then it was ended", question,
			x.Seconds))
	case x.Answer == evidence.None && !marked && x.Protocol == "radius":
		say(silentSign, fmt.Sprintf("%s: no answer, sent %s", question, times(1+x.Retransmissions)))
	// an error in answer to what it could not read is no word of its own
	case x.Answer == evidence.Failed && x.Key != evidence.KeyUnfit:
		say(saidErrorSign, question+": the answer is an error"+messageOf(x))
	}
	return all
}

// messageOf returns the words that the last answer has for people.
func messageOf(x evidence.Exchange) string {
	for _, a := range slices.Backward(x.Response) {
		if a.Name != "server_msg" && a.Name != "Reply-Message" {
			continue
		}
		if a.Value == "" {
			break
		}
		return fmt.Sprintf(" (%q)", a.Value)
	}
	return ""
}

// lookPackets adds what a capture shows: of this question, and of what others
// got from the same server.
func (j *assessment) lookPackets(p *failurePoint) {
	if len(j.evidence.Exchanges) == 0 {
		return
	}
	for _, x := range j.story.Exchanges {
		if x.AskedOf() != p.server && evidence.Host(x.ServerAddress) != p.server {
			continue
		}
		switch {
		case x.Unanswered() && (x.Question == site.AskConnect || x.Question.Records() == p.asked.Records()):
			p.signs = append(p.signs, j.lateFirst(x, packetSigns(x, p.server))...)
		case x.Answer != evidence.None && slices.Contains(x.Marks, evidence.MarkForged), x.Has(evidence.MarkUnheard),
			slices.Contains(x.Marks, evidence.MarkStray):
			p.signs = append(p.signs, packetSigns(x, p.server)...)
		case p.asked.Records() && !x.Question.Records() && x.Question != site.AskConnect:
			p.signs = append(p.signs, Sign{What: loginsAnswered, From: evidence.FromCapture, Time: x.Time,
				Server: p.server,
				Text:   fmt.Sprintf("%s answered %s at %s", p.server, aQuestion(x.Question), clock(x.Time))})
		case x.Question == p.asked && !x.Unanswered() && j.story.Login != nil && !j.beforeTries(p.server, x.Time):
			p.signs = append(p.signs, j.answerInVain(p, x))
		}
	}
	p.signs = append(p.signs, j.lookAddresses(p)...)
	of := j.index.askedOf[p.server]
	answered, asked := 0, len(of)-j.index.asking[[2]string{p.server, j.story.Device}]
	from, to := j.meanwhile()
	for _, x := range between(of, exchangeTime, from, to) {
		if x.AskedBy() != j.story.Device && !x.Unanswered() {
			answered++
		}
	}
	if answered > 0 {
		p.signs = append(p.signs, Sign{What: othersAnswerSign, From: evidence.FromCapture, Server: p.server,
			Text: fmt.Sprintf("%s answers others in this capture", p.server)})
	} else if asked > 1 {
		p.signs = append(p.signs, Sign{What: nobodyAnswerSign, From: evidence.FromCapture, Server: p.server,
			Text: fmt.Sprintf("%s answers nobody in this capture", p.server)})
	}
}

// lookAddresses adds what addresses and names in the packets say: that the asked one
// is no server of the site, that a request names another device than the one whose
// address it has.
func (j *assessment) lookAddresses(p *failurePoint) signs {
	s := j.evidence.Site
	if s == nil {
		return nil
	}
	var all signs
	for _, x := range j.story.Exchanges {
		if x.AskedOf() != p.server && evidence.Host(x.ServerAddress) != p.server || !x.Unanswered() {
			continue
		}
		if x.Server == "" && x.Device != "" {
			all = append(all, Sign{What: wrongServerSign, From: evidence.FromCapture, Time: x.Time, Server: p.server,
				Text: fmt.Sprintf("%s: %s asks %s, which is the address of no server of the site", clock(x.Time),
					x.AskedBy(),
					evidence.Host(x.ServerAddress))})
		}
		if d, says := j.namesDevice(x); d != "" && x.Has(evidence.MarkClientUnknown) {
			all = append(all, Sign{What: translatedSign, From: evidence.FromCapture, Time: x.Time, Server: p.server,
				Text: fmt.Sprintf("%s: the request comes from %s and says that it is of %s (%s)", clock(x.Time),
					evidence.Host(x.Client), d, says)})
		}
	}
	return all
}

// namesDevice returns the device of the site that a request says it is of.
func (j *assessment) namesDevice(x evidence.Exchange) (device, says string) {
	for _, a := range x.Request {
		switch a.Name {
		case "NAS-IP-Address", "NAS-IPv6-Address":
			address, err := netip.ParseAddr(a.Value)
			if err != nil {
				continue
			}
			for _, d := range j.evidence.Site.Devices {
				if slices.Contains(d.Addresses, address) || slices.Contains(d.Sources(), address) {
					return d.Name, a.Name + " " + a.Value
				}
			}
		case "NAS-Identifier":
			if d := j.evidence.Site.Device(a.Value); d != nil {
				return d.Name, a.Name
			}
		}
	}
	return "", ""
}

// answerInVain is the sign of an answer that the capture has and the device does
// not: within its timeout it was lost on its way, after it it came too late.
func (j *assessment) answerInVain(p *failurePoint, x evidence.Exchange) Sign {
	what, text := lateSign, fmt.Sprintf("the answer of %s came %.1f s after the question; %s had given up", p.server,
		x.Seconds, j.story.Device)
	patience := j.patience(p.server)
	if time.Duration(x.Seconds*float64(time.Second)) < patience*9/10 {
		what, text = inTimeSign, fmt.Sprintf("the answer of %s is in the capture %.2f s after the question, and %s "+
			"has none",
			p.server, x.Seconds, j.story.Device)
	}
	return Sign{What: what, From: evidence.FromCapture, Time: x.Time, Server: p.server, Text: text}
}

// patience is how long the device waits for an answer of a server: as it did in
// this story, as the site says, or as long as most do.
func (j *assessment) patience(server string) time.Duration {
	if j.story.Login != nil {
		for _, w := range j.tries(server) {
			return w.to.Sub(w.from)
		}
	}
	return j.waits(server)
}

// waits is how long the site says that the device waits for an answer of a server.
func (j *assessment) waits(server string) time.Duration {
	if s := j.evidence.Site; s != nil && s.Server(server) != nil {
		if d := s.Device(j.story.Device); d != nil {
			return d.Patience(s.Server(server)).Timeout
		}
		return s.Server(server).Timeout
	}
	return slowAfter * time.Second
}

// lateFirst puts right what a talk shows that ended in its middle because its first
// answer came after the device had given up.
func (j *assessment) lateFirst(x evidence.Exchange, all signs) signs {
	patience := j.patience(x.AskedOf())
	if time.Duration(x.First*float64(time.Second)) < patience {
		return all
	}
	for i := range all {
		if all[i].What == cutOffSign || all[i].What == droppedConnSign || all[i].What == gaveUpSign {
			all[i].What, all[i].Text = lateSign, fmt.Sprintf(
				"%s: the first answer of %s took %.1f s, and %s waits %.1f s",
				clock(x.Time), x.AskedOf(), x.First, j.story.Device, patience.Seconds())
		}
	}
	return all
}

// lookDirectory adds what directories told the server in that time.
func (j *assessment) lookDirectory(p *failurePoint) {
	from, to := j.meanwhile()
	at := map[string]bool{}
	for _, x := range j.story.Exchanges {
		if x.AskedOf() == p.server {
			at[evidence.Host(x.ServerAddress)] = true
		}
	}
	if s := j.evidence.Site; s != nil && s.Server(p.server) != nil {
		at[s.Server(p.server).Address] = true
	}
	for _, x := range j.index.directory {
		if at[evidence.Host(x.Client)] && !x.Time.Before(from.Add(-typesCode)) && !x.Time.After(to) {
			of := packetSigns(x, x.AskedOf())
			for i := range of {
				switch of[i].What {
				case silentSign, droppedConnSign, unackedSign, closedSign, noConnectionSign, noWaySign, cutOffSign:
					of[i].What = dirDownSign
				}
				of[i].Server = p.server
			}
			p.signs = append(p.signs, slices.DeleteFunc(of, func(s Sign) bool { return s.What == saidErrorSign })...)
		}
	}
}
