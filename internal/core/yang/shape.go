package yang

import "slices"

// Shape tells the lists and leaf-lists of the models, for edits of their data.
type Shape struct{}

// Keys returns the keys of the list at the end of a path, and whether it is a leaf-list.
func (Shape) Keys(path []string) ([]string, bool) {
	switch last := path[len(path)-1]; last {
	case "user-authentication-order", "authentication-method", "authorization-method", "accounting-method":
		return nil, true
	case "server":
		if len(path) > 1 && path[len(path)-2] == "servers" {
			return []string{"address"}, false
		}
		return []string{"name"}, false
	case "server-group":
		return []string{"name"}, false
	case "event":
		return []string{"event-type"}, false
	case "user":
		if slices.Contains(path, "aaa") {
			return []string{"username"}, false
		}
		return []string{"name"}, false
	}
	return nil, false
}
