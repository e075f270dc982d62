package standin

import (
	"tidemarker/internal/core/settings"
)

// policy reads the values in force by what their settings mean, whatever the keys of
// the site's catalogue are called.
type policy struct {
	cat      settings.Catalogue
	v        settings.Values
	features map[string]string // the key of each feature that can be trimmed, and of each tidy
}

func (p policy) on(role settings.Role) bool       { return p.cat.On(p.v, role) }
func (p policy) list(role settings.Role) []string { return p.cat.Patterns(p.v, role) }
func (p policy) has(role settings.Role) bool      { return len(p.cat.WithRole(role)) > 0 }
func (p policy) feature(name string) bool         { on, _ := p.v[p.features[name]].(bool); return on }
func (p policy) featureNumber(name string) int {
	n, _ := p.v[p.features[name]].(float64)
	return int(n)
}
func (p policy) value(role settings.Role) (any, bool) {
	for _, d := range p.cat.WithRole(role) {
		return p.v[d.Key], true
	}
	return nil, false
}

// number is the value of the first whole or seconds setting with a role.
func (p policy) number(role settings.Role) int {
	v, _ := p.value(role)
	n, _ := v.(float64)
	return int(n)
}

// text is the value of the first choice or text setting with a role.
func (p policy) text(role settings.Role) string {
	v, _ := p.value(role)
	s, _ := v.(string)
	return s
}
