package culprit

import (
	"slices"
	"strings"

	"tidemarker/internal/core/evidence"
	"tidemarker/internal/core/prediction"
	"tidemarker/internal/core/settings"
)

// breaks are the kinds of findings by which settings of a role show what they break (common
// practice: what each kind of rewriting is known to harm).
var breaks = []struct {
	kinds []evidence.Kind
	roles []settings.Role // by their first letters
}{
	{[]evidence.Kind{evidence.ScriptErrorKind, evidence.JourneyKind}, []settings.Role{"js-"}},
	{[]evidence.Kind{evidence.PictureKind}, []settings.Role{"css-", "image-", "lazy-", "font-"}},
	{[]evidence.Kind{evidence.ShiftKind}, []settings.Role{"add-dimensions", "css-async", "lazy-", "font-swap", "image-"}},
	{[]evidence.Kind{evidence.LeakKind, evidence.VariantKind, evidence.PolicyKind, evidence.FormKind}, []settings.Role{"page-cache", "path-exclude", "cookie-exclude", "role-exclude", "agent-exclude", "query-", "data-"}},
	{[]evidence.Kind{evidence.StaleKind}, []settings.Role{"page-cache", "always-refresh", "browser-cache", "data-"}},
	{[]evidence.Kind{evidence.MissingKind, evidence.RequestKind}, []settings.Role{"asset-host", "trim-feature", "query-strip", "css-combine", "js-combine", "css-drop-unused", "js-delay"}},
	{[]evidence.Kind{evidence.ContentKind}, []settings.Role{"trim-feature", "html-minify", "css-drop-unused", "lazy-frames", "page-cache", "path-exclude", "query-"}},
}

// names are words of a cause that say which role it is of: what is loaded otherwise than at the
// mark tells how it came.
var names = []struct {
	words string
	roles []settings.Role
}{
	{"loaded later than the page", []settings.Role{"js-delay"}},
	{"in the page now, not in files", []settings.Role{"css-drop-unused"}},
	{"before its styles", []settings.Role{"css-async"}},
	{"layout jumps", []settings.Role{"add-dimensions"}},
	{"is not defined", []settings.Role{"js-defer", "js-delay", "js-combine"}},
	{"no longer cached", []settings.Role{"page-cache"}},
}

// Likely says how suspect each part of a change is by what was found with all of it: what a role
// is known to break, what the cause's words say, whether a finding names the setting, and what was
// predicted and came. Each is 0 or more.
func Likely(c settings.Catalogue, parts []Part, found []evidence.Finding, predicted []prediction.Held) []float64 {
	out := make([]float64, len(parts))
	for i, p := range parts {
		d, _ := c.Find(p.Key)
		out[i] = 0.1 * float64(1+d.Risk)
		if p.Entry != "" && !p.Removed && d.Role.Protects() {
			out[i] = 0.01 // one exclusion more breaks hardly anything
			continue
		}
		begins := func(prefix settings.Role) bool { return strings.HasPrefix(string(d.Role), string(prefix)) }
		for _, f := range found {
			if f.Severity == evidence.Note || f.Symptom {
				continue
			}
			for _, b := range breaks {
				if slices.Contains(b.kinds, f.Kind) && slices.ContainsFunc(b.roles, begins) {
					out[i] += float64(1 + d.Risk)
					break
				}
			}
			said := f.Title + " " + f.Detail
			for _, n := range names {
				if strings.Contains(said, n.words) && slices.Contains(n.roles, d.Role) {
					out[i] += 20
				}
			}
			if d.Title != "" && strings.Contains(said, "“"+d.Title+"”") || strings.Contains(f.Part, d.Key) && d.Key != "" || p.Entry != "" && strings.Contains(said, p.Entry) && len(p.Entry) > 3 {
				out[i] += 20
			}
			for _, h := range predicted {
				if h.Key == p.Key && h.Outcome == prediction.Right && h.Finding == f.Title {
					out[i] += 40
					break
				}
			}
			break // the first cause is the worst; what comes after it is searched for when it is found
		}
	}
	return out
}
