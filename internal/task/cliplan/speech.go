package cliplan

import (
	"fmt"
	"strings"

	"mellowgate/internal/core/blueprint"
	"mellowgate/internal/core/inventory"
	"mellowgate/internal/core/site"
	"mellowgate/internal/live/lab/standin"
)

// Speech makes a stand-in speak the words of the make. At first it has the configuration
// that held says; where held is "", the one that the site says. It is nil for a make of
// which the phrasebook does not say how it is talked to.
func (d Design) Speech(held string) (*standin.Speech, error) {
	if d.Book.Talk() == nil {
		return nil, nil
	}
	d, err := d.model()
	if err != nil {
		return nil, err
	}
	s := &standin.Speech{Book: d.Book, Text: held, Holds: held != ""}
	if held == "" {
		records, _ := inventory.Wanted(blueprint.Now(d.Device), d.Device, d.Book, d.secrets(), nil)
		sentences, _ := d.Book.Write(records)
		text, err := d.Book.Text(sentences, true)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", d.Device.Name, err)
		}
		s.Text = strings.Join(append(text, d.Book.End()), "\n")
	}
	s.Replace = func(text string) (*site.Device, site.Keys, error) {
		of, keys, _, err := d.replaced(text)
		if err != nil {
			return nil, nil, err
		}
		return of.Device(d.Device.Name), keys, nil
	}
	return s, nil
}
