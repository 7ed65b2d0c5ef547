package cliplan

import (
	"fmt"
	"strings"

	"mellowgate/internal/core/foresee"
	"mellowgate/internal/core/phrase"
	"mellowgate/internal/core/phrase/talk"
	"mellowgate/internal/core/sheet"
	"mellowgate/internal/core/site"
)

// Typing returns what is typed, step by step, with the words of the make around it. The error
// is of a word that the make cannot say.
func (d Design) Typing(p *Plan, withKeys bool) (t sheet.Typing, err error) {
	if d, err = d.model(); err != nil {
		return t, err
	}
	t = sheet.Typing{Make: d.Book.Make, Left: p.Left, ByHand: p.Typed}
	if words := d.Book.Talk(); words != nil {
		t.Enter = words.Enter
		t.Leave = words.Leave
		t.Save = words.Save
		t.Commit, t.AtSave = words.Commit, words.Effect == talk.AtSave
		if words.WayBack != nil {
			t.SetBack, t.CallOff = words.WayBack.SetFor, words.WayBack.CallOff
		}
	}
	if t.TryAfter, err = d.settled(p); err != nil {
		return t, err
	}
	for _, s := range p.Steps {
		one := sheet.TypedStep{About: s.Record.String(), Stuck: s.Stuck, Binds: s.Phase == phrase.Binds,
			Goes: s.Phase == phrase.Removes, Unsafe: s.Unsafe, Unseen: s.Unseen}
		if one.Lines, err = d.Book.Text(s.Lines, withKeys); err != nil {
			return t, err
		}
		if one.Undo, err = d.Book.Text(s.Undo, withKeys); err != nil {
			return t, err
		}
		t.Steps = append(t.Steps, one)
	}
	return t, nil
}

// settled returns after how many steps the first way in comes out as in the end, and stays so.
func (d Design) settled(p *Plan) (int, error) {
	access := sheet.FirstWay(d.Device).Access
	last := ""
	for n := len(p.Steps); ; n-- {
		text, err := p.After(n)
		if err != nil {
			return 0, err
		}
		now, err := d.comesOut(text, access)
		if err != nil {
			return 0, err
		}
		switch {
		case n == len(p.Steps):
			last = now
		case now != last:
			return n + 1, nil
		}
		if n == 0 {
			return 0, nil
		}
	}
}

// comesOut says how every login by an access comes out on the device of a text.
func (d Design) comesOut(text, access string) (string, error) {
	s, keys, _, err := d.replaced(text)
	if err != nil {
		return "", err
	}
	var b strings.Builder
	for _, shape := range (foresee.Forecaster{Site: s, Keys: keys, SkipSecond: true}).Shapes(
		[]*site.Device{s.Device(d.Device.Name)}) {
		for _, c := range shape.Cases {
			if c.Way.Access == access {
				silent, up := c.Split()
				fmt.Fprintln(&b, c.Way.Name(), c.Who.Name, c.Who.Kind, silent, up, c.Summary())
			}
		}
	}
	return b.String(), nil
}
