package sitefile

import (
	"mellowgate/internal/core/site"
)

// Opened is a site as it was read, with the values of its keys.
type Opened struct {
	*site.Site
	Path string // the file or folder that it was read from
	Base string // the folder that paths in the site start from
	Keys site.Keys
}
