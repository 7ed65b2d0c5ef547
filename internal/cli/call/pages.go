package call

import (
	_ "embed"
	"html/template"
)

//go:embed page/base.html
var basePage string

// OnBase returns a page with what all pages have.
func OnBase(name, page string, more template.FuncMap) (*template.Template, error) {
	t, err := template.New(name).Funcs(more).Parse(page)
	if err != nil {
		return nil, err
	}
	return t.Parse(basePage)
}
