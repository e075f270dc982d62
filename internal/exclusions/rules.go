package exclusions

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"tidemarker/internal/act"
	"tidemarker/internal/core/exclusion"
	"tidemarker/internal/inspect"
	"tidemarker/internal/store"
)

// CoverageView is what is to be said of an environment's rules.
type CoverageView struct {
	Remarks   []exclusion.Remark `json:"remarks"`
	Pages     int                `json:"pages" doc:"Addresses that are known."`
	Resources int                `json:"resources" doc:"Scripts, styles and pictures that are known."`
	Run       int64              `json:"run" doc:"The run whose looks count; 0 when there is none."`
}

// MatrixView is policies, settings and sightings of an environment.
type MatrixView struct {
	Environment string           `json:"environment"`
	Run         int64            `json:"run" doc:"The run whose looks count; 0 when there is none."`
	Cells       []exclusion.Cell `json:"cells"`
}

// TriedView is what a pattern does.
type TriedView struct {
	exclusion.Tried
	Kind     string   `json:"kind" enum:"path,name,part,agent,exact,select" doc:"How it matches, by its role."`
	Known    int      `json:"known" doc:"Texts that it was compared with."`
	Possible bool     `json:"possible" doc:"It can match something at all."`
	Within   []string `json:"within" doc:"Patterns in force that match everything it does."`
}

// Coverage is what is wrong with an environment's rules.
func (d *Desk) Coverage(ctx context.Context, envID int64) (CoverageView, error) {
	g, err := inspect.RuleContextOf(ctx, d.Store, envID)
	if err != nil {
		return CoverageView{}, err
	}
	if g.Known.Inside, err = g.Inside(ctx, d.Store); err != nil {
		return CoverageView{}, err
	}
	remarks, err := d.remarks.of(g, func() []exclusion.Remark { return exclusion.Coverage(g.Layer, g.Known) })
	if err != nil {
		return CoverageView{}, err
	}
	return CoverageView{remarks, len(g.Known.Pages), len(g.Known.Resources), g.Run}, nil
}

// Matrix is policies, settings and sightings of an environment.
func (d *Desk) Matrix(ctx context.Context, envID int64) (MatrixView, error) {
	g, err := inspect.RuleContextOf(ctx, d.Store, envID)
	if err != nil {
		return MatrixView{}, err
	}
	cells, err := d.cells.of(g, func() []exclusion.Cell {
		return exclusion.Matrix(g.Layer, g.Known.Pages, exclusion.AllKinds(g.Known.People), g.Devices(), g.Decided, g.Seen)
	})
	return MatrixView{g.Environment.Name, g.Run, cells}, err
}

// TryPattern says what a pattern does to what is known.
func (d *Desk) TryPattern(ctx context.Context, envID int64, role, pattern string, more []string) (TriedView, error) {
	kind, has := exclusion.KindOf(role)
	if !has {
		return TriedView{}, refused("body.role", fmt.Errorf("%q is not a role that has patterns", role))
	}
	g, err := inspect.RuleContextOf(ctx, d.Store, envID)
	if err != nil {
		return TriedView{}, err
	}
	in, err := g.Inside(ctx, d.Store)
	if err != nil {
		return TriedView{}, err
	}
	texts := slices.Concat(more, in.For(role))
	texts = append(texts, textsOf(g, kind, role, in.Links)...)
	slices.Sort(texts)
	texts = slices.Compact(texts)
	v := TriedView{Tried: exclusion.Try(kind, pattern, texts), Kind: string(kind), Known: len(texts), Possible: exclusion.Possible(kind, pattern), Within: []string{}}
	for i := range v.Matches {
		v.Matches[i] = shortened(v.Matches[i])
	}
	for i := range v.Misses {
		v.Misses[i].Text = shortened(v.Misses[i].Text)
	}
	for _, r := range g.Layer.Rules {
		if r.Role != role || r.Pattern == pattern || len(v.Within) == 20 {
			continue
		}
		if within, _, err := exclusion.Within(kind, pattern, r.Pattern); err == nil && within {
			v.Within = append(v.Within, r.Pattern)
		}
	}
	return v, nil
}

// textsOf are the texts of a kind that the site is known to have, for a role of
// exclusions; links are those that its pages have.
func textsOf(g inspect.RuleContext, kind exclusion.Kind, role string, links []string) (texts []string) {
	switch kind {
	case exclusion.Path:
		for _, p := range g.Known.Pages {
			texts = append(texts, p.Path)
		}
		texts = append(texts, g.Known.Asked...)
		texts = append(texts, links...)
	case exclusion.Name:
		for _, p := range g.Known.People {
			if role == "cookie-exclude" {
				texts = append(texts, p.Cookies...)
			}
		}
		for _, p := range g.Known.Parameters {
			if role != "cookie-exclude" {
				texts = append(texts, p.Name)
			}
		}
	case exclusion.Agent:
		texts = append(texts, g.Known.Agents...)
	case exclusion.Exact:
		for _, p := range g.Known.People {
			texts = append(texts, p.Kind)
		}
	case exclusion.Part:
		if role != "data-exclude" { // look-ups are the site's own business; nobody outside sees them
			texts = append(texts, g.Known.Resources...)
		}
	}
	return texts
}

// shortened is the beginning of a text of a site, as of an inline script.
func shortened(text string) string {
	if r := []rune(text); len(r) > 200 {
		return string(r[:199]) + "…"
	}
	return text
}

// DecidePolicy decides who may be served cached pages of a class; "" brings the default back.
func (d *Desk) DecidePolicy(ctx context.Context, siteID int64, class, persona, policy, reason, who string) error {
	row, err := d.Store.Site(ctx, siteID)
	if err != nil {
		return err
	}
	if _, known := row.Document.V.Persona(persona); !known {
		return refused("body.persona", fmt.Errorf("the site has no persona %q", persona))
	}
	if err := d.Store.DecidePolicy(ctx, store.DecidedPolicy{SiteID: siteID, Class: class, Persona: persona, Policy: policy, Reason: reason, Who: who}); err != nil {
		return err
	}
	says := map[string]string{"": "as by default", "never": "never served from the cache", "all": "cached for all", "own": "a copy for each"}[policy]
	return d.told(ctx, siteID, who, fmt.Sprintf("Decided for %s on pages of the class %s: %s. %s", persona, class, says, reason))
}

// ToPurge are the paths of a page or of a class of pages, none for everything, and the
// same in words.
func (d *Desk) ToPurge(ctx context.Context, envID int64, page, class string) (paths []string, what string, err error) {
	switch {
	case page != "":
		if !strings.HasPrefix(page, "/") {
			return nil, "", &act.NotPossible{Why: fmt.Sprintf("%q is not a path; it begins with /", page)}
		}
		return []string{page}, page, nil
	case class == "":
		return nil, "all pages", nil
	}
	g, err := inspect.RuleContextOf(ctx, d.Store, envID)
	if err != nil {
		return nil, "", err
	}
	for _, p := range g.Known.Pages {
		if p.Class == class {
			paths = append(paths, p.Path)
		}
	}
	if len(paths) == 0 {
		return nil, "", &act.NotPossible{Why: fmt.Sprintf("no page of the class %q is known", class)}
	}
	return paths, "pages of the class " + class, nil
}
