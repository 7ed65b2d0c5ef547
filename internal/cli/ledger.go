package cli

import (
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"
	"time"

	"mellowgate/internal/cli/show"
	"mellowgate/internal/core/nearest"
	"mellowgate/internal/live/server/ledger"
	"mellowgate/internal/live/store/files"
	"mellowgate/internal/live/store/state"
)

func ledgerCommand() *Command {
	return &Command{
		Name: "ledger", Args: "[VIEW]", Short: "what was done: logins, sessions and commands",
		Long: `Lists the records of a state folder, oldest first: logins and refusals as the servers decided
them, and the sessions and commands that devices reported. It may be read while the lab or serve is running. A
VIEW sums them up:

failures  what was refused: who, where, from where, why, how often
sessions  who was on which device, from when to when; with -open those that are open now
commands  how much each person typed, and on which devices
verify    is every record as it was written?
heads     the newest record of each chain, with its hash, to keep elsewhere
export    all records as they are, in files of a folder of their own (-to), which ledger -records reads

-person, -device, -since and -until choose the records of each view. -follow goes on with each new record. -csv
and -json are for other programs. -full also says why, what of the site decided and which attributes went back.

Where the site keeps its ledger in a database (service.ledger: postgres URL), the records of all places that
write there are read from it. Those that still wait on a server's disk are not among them.

ledger verify checks the chains, one for each place that writes: each record holds the hash of the one before,
so that a record that was changed, taken out, put in, moved or cut off is found. Exit status 1 when one is.
Somebody who may write everything could write a whole chain again. That shows to who kept the heads elsewhere:
ledger heads -json prints them, signed where serve keeps the records in a folder, and ledger verify -expect FILE
compares. serve signs the newest record every hour, and verify compares with those too.`,
		Examples: []Example{
			{Call: "mellowgate ledger -person ines.marsh -kind command", Shows: "the commands of one person"},
			{Call: "mellowgate ledger -device north-sw-1 -kind command -until 03:10 -last 20",
				Shows: "what was typed on a device in the minutes before"},
			{Call: "mellowgate ledger sessions -open", Shows: "who is on which device now"},
			{Call: "mellowgate ledger failures -since 1h", Shows: "failed logins of the last hour, by reason and source"},
			{Call: "mellowgate ledger -since 1h -json", Shows: "the last hour as JSON Lines"},
			{Call: "mellowgate ledger -person ines.marsh -last 5 -full", Shows: "with rule, attributes and reason"},
			{Call: "mellowgate ledger export -to kept", Shows: "a copy that can be verified and read (-records kept)"},
			{Call: "mellowgate ledger -last 20 -site my-site", Shows: "the newest records in the site's database"},
			{Call: "mellowgate ledger verify", Shows: "is every record as it was written?"},
			{Call: "mellowgate ledger heads -json > heads-2026-11.json", Shows: "what to keep on another machine"},
			{Call: "mellowgate ledger verify -expect heads-2026-11.json", Shows: "and is it still the same ledger?"},
		},
		Prepare: func(c *Call) func() error {
			c.report()
			dir := c.Flags.String("state", defaultState, "the state `folder` to read")
			of := c.Flags.String("site", "",
				"read the database that this `site` names for its ledger, in place of a state folder")
			records := c.Flags.String("records", "",
				"read this `folder` of records, of ledger export or of service: keep, in place of a state folder")
			var f ledger.Filter
			var kinds names
			c.Flags.StringVar(&f.Person, "person", "", "only this `name`, in every spelling of it")
			c.Flags.StringVar(&f.Device, "device", "", "only this `device`")
			c.Flags.Var(&kinds, "kind",
				"only this `kind`: "+strings.Join(ledger.Kinds(), ", ")+"; may be given several times")
			since := c.Flags.String("since", "",
				"only from this `time` on: 2h for the last two hours, 2026-11-23, or 2026-11-23T14:00:00Z")
			until := c.Flags.String("until", "",
				"only before this `time`: 10m for ten minutes ago, 03:10, 2026-11-23, or 2026-11-23T14:00:00Z")
			c.Flags.IntVar(&f.Last, "last", 0, "only the newest `N` records")
			v := ledgerView{}
			c.Flags.BoolVar(&v.open, "open", false, "with sessions: only those that are open now")
			c.Flags.BoolVar(&v.follow, "follow", false, "go on with each new record, until Ctrl-C")
			c.Flags.BoolVar(&v.csv, "csv", false, "print comma-separated values, with a line of names first")
			c.Flags.BoolVar(&v.full, "full", false, "with what decided, what went back, and the whole reason")
			c.Flags.StringVar(&v.to, "to", "", "with export: the `folder`, which is made")
			c.Flags.StringVar(&v.expect, "expect", "",
				"with verify: the `file` with heads that were kept, of ledger heads -json or ledger verify -json")
			return func() error {
				if len(c.Args) > 0 {
					v.name = c.Args[0]
				}
				if !slices.Contains(append(ledgerViews, ""), v.name) {
					return wrong("ledger has no view %q%s; they are %s", v.name, nearest.Suggest(v.name, ledgerViews),
						strings.Join(ledgerViews, ", "))
				}
				if err := v.check(*c.json, f); err != nil {
					return err
				}
				for _, k := range kinds {
					if !slices.Contains(ledger.Kinds(), k) {
						return wrong("there is no kind of record %q%s", k, nearest.Suggest(k, ledger.Kinds()))
					}
				}
				f.Kinds = kinds
				var err error
				if f.Since, err = pointOfTime("-since", *since, time.Now()); err != nil {
					return err
				}
				if f.Until, err = pointOfTime("-until", *until, time.Now()); err != nil {
					return err
				}
				if !f.Until.IsZero() && !f.Since.Before(f.Until) {
					return wrong("-since is not before -until: no record can lie between them")
				}
				if v.whole() && f.Chooses() {
					return wrong("%s is of whole chains: a part of one proves nothing; to choose records, leave out the view", v.name)
				}
				from, err := c.ledgerSource(*dir, *of, *records)
				if err != nil {
					return err
				}
				switch v.name {
				case "heads":
					return c.ledgerHeads(from)
				case "verify":
					return c.verifyLedger(from, v.expect)
				}
				return c.viewLedger(v, from, f)
			}
		},
	}
}

// ledgerSource returns the ledger of a state folder, of a site's database, or in a folder
// of records.
func (c *Call) ledgerSource(dir, path, records string) (ledger.Source, error) {
	if records != "" && path != "" {
		return nil, wrong("give one of -site and -records")
	}
	if records != "" {
		return there(ledger.Folder(records))
	}
	if path == "" {
		folder, err := state.Open(dir)
		if err != nil {
			records := state.RecordsIn(dir)
			if _, missing := os.Stat(records); missing == nil { // the folder of send
				return ledger.Folder(records), nil
			}
			return nil, failure{status: ExitUsage, err: fmt.Errorf("%w, or send with -keep", err)}
		}
		places, err := folder.Places()
		if err != nil {
			return nil, failure{status: ExitUsage, err: err}
		}
		if places.Ledger.Database == "" {
			return ledger.Folder(folder.RecordsAt(places.Ledger.Folder)), nil
		}
		path = places.SitePath
	}
	l, err := c.loadFrom(path, false)
	if err != nil {
		return nil, err
	}
	as := l.Service.Ledger
	if as.Database == "" {
		return nil, wrong("%s keeps its ledger in a file: name the state folder of serve with -state", path)
	}
	from := ledger.Database{URL: as.Database}
	if as.Key != nil {
		var known bool
		if from.Password, known = l.Keys[as.Key.Name]; !known {
			return nil, wrong("the ledger's database needs the key %s, which has no value here", as.Key.Name)
		}
	}
	return from, nil
}

// there returns a folder that has records.
func there(f ledger.Folder) (ledger.Source, error) {
	if err := f.There(); err != nil {
		return nil, failure{status: ExitUsage, err: err}
	}
	return f, nil
}

// keptHeads reads heads that were kept in a file.
func keptHeads(path string) ([]ledger.Head, error) {
	if path == "" {
		return nil, nil
	}
	text, err := files.ReadFile(path)
	if err != nil {
		return nil, failure{status: ExitUsage, err: err}
	}
	var kept struct {
		Chains []ledger.Head `json:"chains"`
	}
	if err := json.Unmarshal(text, &kept); err != nil || len(kept.Chains) == 0 {
		return nil, wrong("%s holds no heads; make such a file with: mellowgate ledger heads -json", path)
	}
	return kept.Chains, nil
}

// ledgerHeads prints the newest record of each chain.
func (c *Call) ledgerHeads(from ledger.Source) error {
	heads, err := from.Heads(c.Context)
	if err != nil {
		return cannot(err)
	}
	if f, is := from.(ledger.Folder); is {
		signer, err := f.Signer(false)
		if err != nil {
			return cannot(err)
		}
		for i := range heads {
			if signer != nil {
				heads[i] = signer.Sign(heads[i], time.Now())
			}
		}
	}
	if *c.json {
		return show.JSON(c.Out, struct {
			Chains []ledger.Head `json:"chains"`
		}{append([]ledger.Head{}, heads...)})
	}
	c.sayHeads(heads)
	return nil
}

func (c *Call) sayHeads(heads []ledger.Head) {
	for _, end := range heads {
		if end.Sequence == 0 {
			c.say("chain %s: no record yet\n", end.Chain)
			continue
		}
		of := ""
		if end.Host != "" {
			of = " of " + end.Host
		}
		c.say("chain %s%s: newest record %d, %s\n", end.Chain, of, end.Sequence, end.Hash)
		if end.Sign != "" {
			c.say("  signed %s with the key %s\n", end.Time, end.Key)
		}
	}
}

func (c *Call) verifyLedger(from ledger.Source, expect string) error {
	kept, err := keptHeads(expect)
	if err != nil {
		return err
	}
	defer c.working("verifying the ledger")()
	p, err := ledger.Verify(c.Context, from, kept...)
	if err != nil {
		return cannot(err)
	}
	if *c.json {
		err = show.JSON(c.Out, p)
	} else {
		style := c.style()
		for _, b := range p.Breaks {
			in := ""
			if len(p.Chains) > 1 {
				in = "chain " + b.Chain + ": "
			}
			c.say("%s\n", style.Paint(show.Bad, in+b.What))
		}
		if len(p.Breaks) == 0 {
			c.say("%s\n", style.Paint(show.Good, "every record is as it was written: "+show.Count(int(p.Records), "record")+
				map[bool]string{true: ", and the heads in " + expect + " are in it"}[expect != ""]))
		}
		c.sayHeads(p.Chains)
	}
	if err == nil && len(p.Breaks) > 0 {
		return errNo
	}
	return err
}

// pointOfTime reads a time, a clock time of today, or how long ago it was.
func pointOfTime(flag, text string, now time.Time) (time.Time, error) {
	if text == "" {
		return time.Time{}, nil
	}
	if d, err := time.ParseDuration(text); err == nil && d >= 0 {
		return now.Add(-d), nil
	}
	t, err := moment(text, now)
	if err == nil || errors.Is(err, errNoMoment) {
		return t, err
	}
	return time.Time{}, wrong("%s is %q; 2h, 03:10, 2026-11-23 or 2026-11-23T14:00:00Z is wanted", flag, text)
}
