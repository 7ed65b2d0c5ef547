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

// CSVTable writes a table as comma-separated values (RFC 4180), with a line of names first.
func CSVTable(w io.Writer, names []string, rows [][]string) error {
	out := csv.NewWriter(w)
	if err := out.Write(names); err != nil {
		return err
	}
	for _, row := range rows {
		for i, cell := range row {
			row[i] = HarmlessCell(show.Safe(cell))
		}
		if err := out.Write(row); err != nil {
			return err
		}
	}
	out.Flush()
	return out.Error()
}

// HarmlessCell keeps a cell from being taken as a formula by a spreadsheet.
func HarmlessCell(cell string) string {
	if cell != "" && strings.ContainsRune("=+-@\t\r", rune(cell[0])) {
		if _, err := strconv.ParseFloat(cell, 64); err != nil {
			return "'" + cell
		}
	}
	return cell
}
