package exclusion

import (
	"fmt"
	"slices"
	"strings"

	"tidemarker/internal/core/evidence"
)

// NewFindings are the contradictions between settings and what is known of the site that
// were not there with the earlier settings, as findings: certain ones are broken, likely
// ones for a person to judge. was is the layer with the earlier settings: a rule that is new and
// matches nothing that is known has lost nothing.
func NewFindings(was Layer, before, now []Remark) []evidence.Finding {
	var out []evidence.Finding
	for _, r := range now {
		r.Pages = slices.DeleteFunc(slices.Clone(r.Pages), func(p string) bool { return said(before, r, p) })
		if len(r.Pages) == 0 && said(before, r, "") {
			continue
		}
		f, weighs := r.finding()
		if !weighs {
			continue
		}
		isNew := r.Rule != nil && !slices.ContainsFunc(was.Rules, func(w Rule) bool { return w.Key == r.Rule.Key && w.Pattern == r.Rule.Pattern })
		if isNew && (r.Kind == Idle || r.Kind == Impossible) {
			f.Severity, f.Title = evidence.Note, fmt.Sprintf("“%s” matches nothing that is known of the site", r.Rule.Pattern)
		}
		out = append(out, f)
	}
	return out
}

// said tells whether a remark of the same kind, by the same rule, was there before, for a
// page when it is about pages.
func said(before []Remark, r Remark, page string) bool {
	return slices.ContainsFunc(before, func(b Remark) bool {
		same := b.Kind == r.Kind && (b.Rule == nil) == (r.Rule == nil) && (b.Rule == nil || b.Rule.Key == r.Rule.Key && b.Rule.Pattern == r.Rule.Pattern)
		return same && (page == "" && (len(b.Pages) > 0) == (r.Count > 0) || slices.Contains(b.Pages, page))
	})
}

// finding is a remark as a finding of a run; weighs is false for what harms nobody.
func (r Remark) finding() (f evidence.Finding, weighs bool) {
	kind, severity, title := evidence.PolicyKind, evidence.Unsure, ""
	rule := ""
	if r.Rule != nil {
		rule = r.Rule.Pattern
	}
	switch r.Kind {
	case Uncovered:
		severity, title = evidence.Broken, "A page that must never be cached can be"
	case Personal:
		title = "A cookie that tells who somebody is keeps no page from the cache"
	case Dependent:
		kind, severity, title = evidence.VariantKind, evidence.Broken, fmt.Sprintf("“%s” is ignored although it makes another page", rule)
	case Expires:
		kind, severity, title = evidence.FormKind, evidence.Broken, "A page is cached for longer than its form can be sent"
	case Late:
		kind, title = evidence.StaleKind, "A page is cached for longer than it may go without what is published"
	case Wide:
		title = fmt.Sprintf("“%s” keeps pages from being cached that should be", rule)
		switch {
		case r.Share >= 1:
			severity, title = evidence.Broken, fmt.Sprintf("“%s” matches every page: nothing is cached now", rule)
		case r.Share < 0.5: // somebody excludes a page or two on purpose
			severity = evidence.Note
		}
	case Both:
		title = fmt.Sprintf("“%s” contradicts another rule", rule)
	case Idle, Impossible:
		title = fmt.Sprintf("“%s” matches nothing now", rule)
	default:
		return f, false
	}
	page := "/"
	if len(r.Pages) > 0 {
		page = r.Pages[0]
	}
	detail := r.Text
	if r.Mend != nil && len(r.Mend.Add) > 0 {
		detail += fmt.Sprintf(" It is fixed by adding %s.", "“"+strings.Join(r.Mend.Add, "”, “")+"”")
	}
	return evidence.Follows(page, kind, severity, title, detail, string(r.Kind)+" "+rule), true
}

// NoLongerAtAll tells that pages were cached with the earlier settings and are not now: nothing
// breaks, and every page is made for each who asks.
func NoLongerAtAll(before, now Layer) []evidence.Finding {
	if !before.On || now.On {
		return nil
	}
	return []evidence.Finding{evidence.Follows("/", evidence.PolicyKind, evidence.Unsure, "Pages are no longer cached at all",
		"With the mark's settings finished pages were cached and served again; now each is generated again for each visitor.", "no longer cached")}
}
