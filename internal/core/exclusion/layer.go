package exclusion

import "tidemarker/internal/core/settings"

// LayerOf reads from a revision what it says of the page cache and of what is left
// alone, by the roles of its settings. Where a site has no setting of a role, nothing is
// said.
func LayerOf(cat settings.Catalogue, v settings.Values) Layer {
	var l Layer
	for _, d := range cat.Settings {
		switch d.Role {
		case "page-cache":
			l.On = l.On || d.Active(v[d.Key])
		case "page-cache-logged-in":
			l.LoggedIn, _ = v[d.Key].(string)
		case "page-cache-ttl":
			l.Lifetime = v.Whole(d.Key)
		case "page-cache-serve-stale":
			l.Stale = l.Stale || d.Active(v[d.Key])
		}
		if _, has := KindOf(string(d.Role)); !has || d.Type != settings.Patterns {
			continue
		}
		for _, p := range v.Strings(d.Key) {
			l.Rules = append(l.Rules, Rule{Key: d.Key, Role: string(d.Role), Pattern: p})
		}
	}
	return l
}
