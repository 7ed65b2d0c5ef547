package sitefile

import (
	"slices"

	"go.yaml.in/yaml/v4"

	"mellowgate/internal/core/site"
	"mellowgate/internal/live/store/files"
)

// Part is the text of a site with one of its devices, to be read many times with another text
// in the place of that device. Places in it are not those of the files.
type Part struct {
	base    string
	sources []site.Source
}

// LoadPart reads the files of a site and leaves out all devices but one. Where that does not
// stand in the files themselves, nothing is left out.
func LoadPart(path, device string) (*Part, error) {
	base, sources, err := sourcesOf(path)
	if err != nil {
		return nil, err
	}
	p, found := &Part{base: base}, false
	for _, s := range sources {
		text, has, err := only(s.Text, device)
		if err != nil {
			return nil, err
		}
		found = found || has
		p.sources = append(p.sources, site.Source{Name: s.Name, Text: text})
	}
	if _, err := p.With(); err != nil || !found { // such as a part of a left out device that others name
		p.sources = sources
	}
	return p, nil
}

// With reads the part with more sources, after its own.
func (p *Part) With(more ...site.Source) (*site.Site, error) {
	return site.ParseWith(func(name string) (site.Source, error) {
		text, err := files.ReadFile(files.At(p.base, name))
		return site.Source{Name: name, Text: text}, err
	}, slices.Concat(p.sources, more)...)
}

// only leaves all devices but one out of the text of a site, and reports whether that is
// there.
func only(text []byte, device string) (part []byte, found bool, err error) {
	var doc yaml.Node
	if err := yaml.Unmarshal(text, &doc); err != nil {
		return nil, false, err
	}
	if len(doc.Content) == 0 || doc.Content[0].Kind != yaml.MappingNode {
		return text, false, nil
	}
	top := doc.Content[0]
	for i := 0; i+1 < len(top.Content); i += 2 {
		if key, value := top.Content[i], top.Content[i+1]; key.Value == "devices" && value.Kind == yaml.SequenceNode {
			value.Content = slices.DeleteFunc(value.Content, func(n *yaml.Node) bool { return nameOf(n) != device })
			found = found || len(value.Content) > 0
		}
	}
	part, err = yaml.Marshal(&doc)
	return part, found, err
}

// nameOf returns the value of name in a mapping, "" for none.
func nameOf(n *yaml.Node) string {
	for i := 0; n.Kind == yaml.MappingNode && i+1 < len(n.Content); i += 2 {
		if n.Content[i].Value == "name" {
			return n.Content[i+1].Value
		}
	}
	return ""
}
