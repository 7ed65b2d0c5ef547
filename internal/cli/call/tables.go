package call

import (
	"encoding/csv"
	"io"
	"strconv"
	"strings"

	"mellowgate/internal/cli/show"
	"mellowgate/internal/core/foresee"
)

// Column is an outage with its heading.
type Column struct {
	Outage  foresee.Outage
	Heading string
}

// CSV writes rows as comma-separated values (RFC 4180), each at once.
type CSV struct{ rows *csv.Writer }

// NewCSV returns a CSV on w. The line of names comes with the first row or the end, and its error then.
func NewCSV(w io.Writer, names []string) *CSV {
	c := &CSV{rows: csv.NewWriter(w)}
	_ = c.rows.Write(names)
	return c
}

// Row writes a row, without what a terminal or a spreadsheet would obey.
func (c *CSV) Row(cells []string) error {
	harmless := make([]string, len(cells))
	for i, cell := range cells {
		harmless[i] = harmlessCell(show.Safe(cell))
	}
	_ = c.rows.Write(harmless) // its error comes with the end
	return c.End()
}

// End writes what is left.
func (c *CSV) End() error {
	c.rows.Flush()
	return c.rows.Error()
}

// CSVTable writes a whole table as comma-separated values, with a line of names first.
func CSVTable(w io.Writer, names []string, rows [][]string) error {
	c := NewCSV(w, names)
	for _, row := range rows {
		if err := c.Row(row); err != nil {
			return err
		}
	}
	return c.End()
}

// harmlessCell keeps a cell from being taken as a formula by a spreadsheet.
func harmlessCell(cell string) string {
	if cell != "" && strings.ContainsRune("=+-@\t\r", rune(cell[0])) {
		if _, err := strconv.ParseFloat(cell, 64); err != nil {
			return "'" + cell
		}
	}
	return cell
}
