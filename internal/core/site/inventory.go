package site

import (
	"bytes"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"path"
	"slices"
	"strings"

	"go.yaml.in/yaml/v4"

	"mellowgate/internal/core/nearest"
)

// inventoryColumns are the columns of a file of devices; labels.NAME is one
// for each label.
var inventoryColumns = []string{"name", "platform", "profile", "addresses", "source", "network", "accounts", "labels."}

// inventory reads a file of devices: a list in YAML or JSON, or a table (RFC 4180).
func (r *reader) inventory(s *Site) {
	switch strings.ToLower(path.Ext(r.source.Name)) {
	case ".json", ".yaml", ".yml":
		if top := r.document(); top != nil {
			r.listed(top, s)
		}
	default:
		r.table(s)
	}
}

// listed reads a list of devices, or a mapping with one under devices: each with the
// fields that a table may have as columns.
func (r *reader) listed(top *yaml.Node, s *Site) {
	if top.Kind == yaml.MappingNode && len(top.Content) == 2 && top.Content[0].Value == "devices" {
		top = top.Content[1]
	}
	if !r.is(top, yaml.SequenceNode, "a file of devices", "a list of devices") {
		return
	}
	good := true
	for _, item := range top.Content {
		for i := 0; item.Kind == yaml.MappingNode && i < len(item.Content); i += 2 {
			key := item.Content[i]
			if _, old := renamedInDevice[key.Value]; key.Value != "labels" && !old &&
				!slices.Contains(inventoryColumns, key.Value) {
				r.wrong(key, "unknown key %q in a file of devices%s; the keys are %s", shorten(key.Value),
					nearest.Suggest(key.Value, inventoryColumns),
					strings.TrimSuffix(strings.Join(inventoryColumns, ", "), "."))
				good = false
			}
		}
	}
	if good {
		list(&deviceShape, func(s *Site) *[]*Device { return &s.Devices }, freshDevice).read(r, top, s)
	}
}

// table reads a table of devices with a header row, its cells separated by commas, or by
// semicolons where the header is. Several addresses or accounts in one cell are
// separated by blanks. Empty cells say nothing.
func (r *reader) table(s *Site) {
	text := bytes.TrimPrefix(r.source.Text, []byte("\xef\xbb\xbf")) // a byte-order mark
	rows := csv.NewReader(bytes.NewReader(text))
	if first, _, _ := bytes.Cut(text, []byte("\n")); bytes.Count(first, []byte(";")) > bytes.Count(first, []byte(",")) {
		rows.Comma = ';'
	}
	rows.ReuseRecord = true
	rows.FieldsPerRecord = -1
	header, ok := r.row(rows)
	if !ok {
		return
	}
	header = slices.Clone(header)
	places := make([]Place, len(header))
	for i := range header {
		line, column := rows.FieldPos(i)
		places[i] = Place{File: r.file, Line: int32(line), Column: int32(column)}
	}
	if !r.header(header, places) {
		return
	}
	for {
		cells, ok := r.row(rows)
		if !ok {
			return
		}
		line, _ := rows.FieldPos(0)
		if len(cells) != len(header) {
			r.wrongAt(Place{File: r.file, Line: int32(line), Column: 1},
				fmt.Sprintf("this row has %d cells and the header has %d columns; give every column a cell, an "+
					"empty one if need be", len(cells), len(header)))
			continue
		}
		d := &Device{Own: Profile{place: Place{File: r.file, Line: int32(line), Column: 1}}}
		for i, cell := range cells {
			line, column := rows.FieldPos(i)
			r.cell(d, header[i], &yaml.Node{Kind: yaml.ScalarNode, Value: strings.TrimSpace(cell), Line: line,
				Column: column})
		}
		if d.Name == "" {
			d.Place = Place{File: r.file, Line: int32(line), Column: 1}
			r.wrongAt(d.Place, "a device needs a name")
		}
		if len(d.Addresses) == 0 {
			r.wrongAt(Place{File: r.file, Line: int32(line), Column: 1}, "a device needs an address")
		}
		s.Devices = append(s.Devices, d)
	}
}

// row reads one row. It is false at the end, and at a row that cannot be read.
func (r *reader) row(rows *csv.Reader) ([]string, bool) {
	cells, err := rows.Read()
	if err == nil {
		return cells, true
	}
	var bad *csv.ParseError
	switch {
	case errors.As(err, &bad):
		r.wrongAt(Place{File: r.file, Line: int32(bad.Line), Column: int32(max(bad.Column, 1))},
			fmt.Sprintf("this is no row of a table: %v; put a cell with quotes or %q between double quotes", bad.Err,
				rows.Comma))
	case !errors.Is(err, io.EOF):
		r.wrongAt(Place{File: r.file, Line: 1, Column: 1}, err.Error())
	}
	return nil, false
}

// header checks the header row, whose cells stand at places, and leaves in it what its columns are called now.
func (r *reader) header(header []string, places []Place) bool {
	at := func(i int) Place { return places[i] }
	good := true
	for i, column := range header {
		column = strings.TrimSpace(column)
		if now, old := renamedInDevice[column]; old {
			r.renamed = append(r.renamed, Renamed{Old: column, Now: now, Place: places[i]})
			column = now
		}
		header[i] = column
		switch label, isLabel := strings.CutPrefix(column, "labels."); {
		case slices.Contains(header[:i], column):
			r.wrongAt(at(i), fmt.Sprintf("the column %q stands twice; keep one", column))
			good = false
		case isLabel && isName(label):
		case !isLabel && slices.Contains(inventoryColumns, column):
		default:
			r.wrongAt(at(i), fmt.Sprintf("unknown column %q in a file of devices%s; the columns are %sNAME",
				shorten(column),
				nearest.Suggest(column, inventoryColumns), strings.Join(inventoryColumns, ", ")))
			good = false
		}
	}
	for _, needed := range []string{"name", "addresses"} {
		if good && !slices.Contains(header, needed) {
			r.wrongAt(at(0), fmt.Sprintf("a file of devices needs the column %q in its first row", needed))
			good = false
		}
	}
	return good
}

// cell reads one cell of a device's row.
func (r *reader) cell(d *Device, column string, n *yaml.Node) {
	if n.Value == "" {
		return
	}
	each := func(do func(*yaml.Node)) {
		for word := range strings.FieldsSeq(n.Value) {
			part := *n
			part.Value = word
			do(&part)
		}
	}
	switch column {
	case "name":
		d.Ref, _ = r.name(n, "a device's name")
	case "platform":
		d.PlatformRef, _ = r.name(n, "platform")
	case "profile":
		d.ProfileRef, _ = r.name(n, "profile")
	case "addresses":
		each(func(n *yaml.Node) {
			if a, ok := r.address(n, "an address"); ok {
				d.Addresses = append(d.Addresses, a)
			}
		})
	case "source":
		d.Source, d.SourceSet = r.address(n, "source")
		d.sources = append(d.sources[:0], d.Source)
	case "network":
		d.Network = n.Value
	case "accounts":
		d.Own.HasAccounts = true
		each(func(n *yaml.Node) {
			if ref, ok := r.name(n, "an account"); ok {
				d.Own.AccountRefs = append(d.Own.AccountRefs, ref)
			}
		})
	default:
		if d.Labels == nil {
			d.Labels = map[string]string{}
		}
		d.Labels[strings.TrimPrefix(column, "labels.")] = n.Value
	}
}
