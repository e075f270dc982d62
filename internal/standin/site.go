package standin

import (
	"net/http"
	"slices"
	"strings"
	"time"

	"tidemarker/internal/core/settings"
	"tidemarker/internal/standin/origin"
)

// Origin is the server of a site behind its speed layer.
type Origin interface {
	http.Handler
	// Count is how many records of a kind have gathered.
	Count(kind string) int
	// Gather adds records of a kind, as visitors and editors do with time.
	Gather(kind string, n int)
	// Tidy deletes all but the newest records of a kind, and says how many.
	Tidy(kind string, newest int) int
}

// Site is an invented site: its origin, and the speed layer and the host that it has.
type Site struct {
	Name         string
	Software     string // how the layer calls itself
	CacheName    string // the same in Cache-Status
	Catalogue    settings.Catalogue
	Features     map[string]string // the key of each feature that can be trimmed, and of each tidy
	MemberCookie string
	Facts        map[string]any // what the connector says about the host
	AssetPaths   []string       // below these are files, not pages
	FramePath    string         // below this are pages for frames, which are left as they are
	ShopScript   string         // part of the address of the script that only shop pages need
	ShopPaths    []string
	IconSheet    string // part of the address of the style sheet with glyphs
	Open         func(base string, now func() time.Time, desk origin.Desk) (Origin, error)
}

// madePath is where files are served that the layer makes itself.
const madePath = "/_speed/made/"

func (s Site) isAsset(path string) bool {
	return strings.HasPrefix(path, madePath) || slices.ContainsFunc(s.AssetPaths, func(p string) bool { return strings.HasPrefix(path, p) })
}

func (s Site) isShop(path string) bool {
	return slices.ContainsFunc(s.ShopPaths, func(p string) bool { return strings.HasPrefix(path, p) })
}
