package site

import "go.yaml.in/yaml/v4"

// highestNumber is the highest enterprise number that fits the four octets of
// RFC 2865 section 5.26, whose first is 0.
const highestNumber = 1<<24 - 1

var vendorShape = shape[Vendor]{
	what: "a vendor",
	fields: map[string]field[Vendor]{
		"name":     nameField("a vendor's name", func(v *Vendor) *Ref { return &v.Ref }),
		"number":   intField("number", 1, highestNumber, func(v *Vendor) *int { return &v.Number }),
		"commands": {read: readCommandRights, form: commandRightsShape.form()},
		"attributes": {read: func(r *reader, n *yaml.Node, v *Vendor) {
			if !r.is(n, yaml.SequenceNode, "attributes", "a list") {
				return
			}
			for _, item := range n.Content {
				var a VendorAttribute
				vendorAttributeShape.read(r, item, &a)
				v.Attributes = append(v.Attributes, a)
			}
		}, form: listForm(vendorAttributeShape.form())},
	},
	must: []string{"name", "number", "attributes"},
}

var vendorAttributeShape = shape[VendorAttribute]{
	what: "an attribute",
	fields: map[string]field[VendorAttribute]{
		"name":   nameField("an attribute's name", func(a *VendorAttribute) *Ref { return &a.Ref }),
		"number": intField("number", 1, 255, func(a *VendorAttribute) *int { return &a.Number }),
		"type": wordField("type", []string{"text", "integer", "octets", "address", "address6"},
			func(a *VendorAttribute, w string) { a.Type = w }),
	},
	must: []string{"name", "number", "type"},
}
