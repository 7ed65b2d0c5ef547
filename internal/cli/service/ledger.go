package service

import (
	"encoding/json"
	"slices"
	"strings"
	"time"

	"mellowgate/internal/cli/call"
	"mellowgate/internal/cli/show"
	"mellowgate/internal/core/nearest"
	"mellowgate/internal/live/server/ledger"
	"mellowgate/internal/live/store/files"
)

func LedgerCommand() *call.Command {
	return &call.Command{
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
		Examples: []call.Example{
			{Call: "mellowgate ledger -person ines.marsh -kind command", Shows: "the commands of one person"},
			{Call: "mellowgate ledger -device north-sw-1 -kind command -until 03:10 -last 20",
				Shows: "what was typed on a device in the minutes before"},
			{Call: "mellowgate ledger sessions -open", Shows: "who is on which device now"},
			{Call: "mellowgate ledger failures -since 1h",
				Shows: "failed logins of the last hour, by reason and source"},
			{Call: "mellowgate ledger -since 1h -json", Shows: "the last hour as JSON Lines"},
			{Call: "mellowgate ledger -person ines.marsh -last 5 -full", Shows: "with rule, attributes and reason"},
			{Call: "mellowgate ledger export -to kept", Shows: "a copy that can be verified and read (-records kept)"},
			{Call: "mellowgate ledger -last 20 -site my-site", Shows: "the newest records in the site's database"},
			{Call: "mellowgate ledger verify", Shows: "is every record as it was written?"},
			{Call: "mellowgate ledger heads -json > heads-2026-11.json", Shows: "what to keep on another machine"},
			{Call: "mellowgate ledger verify -expect heads-2026-11.json", Shows: "and is it still the same ledger?"},
		},
		Prepare: func(c *call.Call) func() error {
			c.ReportFlags()
			dir := c.Flags.String("state", call.DefaultState, "the state `folder` to read")
			of := c.Flags.String("site", "",
				"read the database that this `site` names for its ledger, in place of a state folder")
			records := c.Flags.String("records", "",
				"read this `folder` of records, of ledger export or of service: keep, in place of a state folder")
			var f ledger.Filter
			var kinds call.Names
			c.Flags.StringVar(&f.Person, "person", "", "only this `name`, in every spelling of it")
			c.Flags.StringVar(&f.Device, "device", "", "only this `device`")
			c.Flags.Var(&kinds, "kind",
				"only this `kind`: "+strings.Join(ledger.Kinds(), ", ")+"; may be given several times")
			since := c.Flags.String("since", "",
				"only from this `time` on: 2h for the last two hours, 2026-11-23, or 2026-11-23T14:00:00Z")
			until := c.Flags.String("until", "",
				"only before this `time`: 10m for ten minutes ago, 03:10, 2026-11-23, or 2026-11-23T14:00:00Z")
			c.Flags.IntVar(&f.Last, "last", 0, "only the newest `N` records")
			v := LedgerView{}
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
					return call.Usagef("ledger has no view %q%s; they are %s", v.name,
						nearest.Suggest(v.name, ledgerViews),
						strings.Join(ledgerViews, ", "))
				}
				if err := v.check(*c.AsJSON, f); err != nil {
					return err
				}
				for _, k := range kinds {
					if !slices.Contains(ledger.Kinds(), k) {
						return call.Usagef("there is no kind of record %q%s", k, nearest.Suggest(k, ledger.Kinds()))
					}
				}
				f.Kinds = kinds
				var err error
				if f.Since, err = call.PointOfTime("-since", *since, time.Now()); err != nil {
					return err
				}
				if f.Until, err = call.PointOfTime("-until", *until, time.Now()); err != nil {
					return err
				}
				if !f.Until.IsZero() && !f.Since.Before(f.Until) {
					return call.Usagef("-since is not before -until: no record can lie between them")
				}
				if v.whole() && f.Chooses() {
					return call.Usagef("%s is of whole chains: a part of one proves nothing; to choose records, "+
						"leave out the view", v.name)
				}
				from, err := c.LedgerSource(*dir, *of, *records)
				if err != nil {
					return err
				}
				switch v.name {
				case "heads":
					return ledgerHeads(c, from)
				case "verify":
					return verifyLedger(c, from, v.expect)
				}
				return viewLedger(c, v, from, f)
			}
		},
	}
}

// keptHeads reads heads that were kept in a file.
func keptHeads(path string) ([]ledger.Head, error) {
	if path == "" {
		return nil, nil
	}
	text, err := files.ReadFile(path)
	if err != nil {
		return nil, call.UsageError(err)
	}
	var kept struct {
		Chains []ledger.Head `json:"chains"`
	}
	if err := json.Unmarshal(text, &kept); err != nil || len(kept.Chains) == 0 {
		return nil, call.Usagef("%s holds no heads; make such a file with: mellowgate ledger heads -json", path)
	}
	return kept.Chains, nil
}

// ledgerHeads prints the newest record of each chain.
func ledgerHeads(c *call.Call, from ledger.Source) error {
	heads, err := from.Heads(c.Context)
	if err != nil {
		return call.TaskError(err)
	}
	if f, ok := from.(ledger.Folder); ok {
		signer, err := f.Signer(false)
		if err != nil {
			return call.TaskError(err)
		}
		for i := range heads {
			if signer != nil {
				heads[i] = signer.Sign(heads[i], time.Now())
			}
		}
	}
	if *c.AsJSON {
		return show.JSON(c.Out, struct {
			Chains []ledger.Head `json:"chains"`
		}{append([]ledger.Head{}, heads...)})
	}
	sayHeads(c, heads)
	return nil
}

func sayHeads(c *call.Call, heads []ledger.Head) {
	for _, end := range heads {
		if end.Sequence == 0 {
			c.Say("chain %s: no record yet\n", end.Chain)
			continue
		}
		of := ""
		if end.Host != "" {
			of = " of " + end.Host
		}
		c.Say("chain %s%s: newest record %d, %s\n", end.Chain, of, end.Sequence, end.Hash)
		if end.Sign != "" {
			c.Say("  signed %s with the key %s\n", end.Time, end.Key)
		}
	}
}

func verifyLedger(c *call.Call, from ledger.Source, expect string) error {
	kept, err := keptHeads(expect)
	if err != nil {
		return err
	}
	defer c.Working("verifying the ledger")()
	p, err := ledger.Verify(c.Context, from, kept...)
	if err != nil {
		return call.TaskError(err)
	}
	if *c.AsJSON {
		err = show.JSON(c.Out, p)
	} else {
		style := c.Style()
		for _, b := range p.Breaks {
			in := ""
			if len(p.Chains) > 1 {
				in = "chain " + b.Chain + ": "
			}
			c.Say("%s\n", style.Paint(show.Bad, in+b.What))
		}
		if len(p.Breaks) == 0 {
			c.Say("%s\n", style.Paint(show.Good, "every record is as it was written: "+show.Count(
				int(p.Records), "record")+
				map[bool]string{true: ", and the heads in " + expect + " are in it"}[expect != ""]))
		}
		sayHeads(c, p.Chains)
	}
	if err == nil && len(p.Breaks) > 0 {
		return call.ErrVerdict
	}
	return err
}
