package exclusions

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"tidemarker/internal/changes"
	"tidemarker/internal/core/exclusion"
	"tidemarker/internal/core/release"
	"tidemarker/internal/core/settings"
	"tidemarker/internal/core/site"
	"tidemarker/internal/store"
)

// ExclusionView is one entry of the ledger: something excluded, and why.
type ExclusionView struct {
	ID           int64              `json:"id"`
	Change       *int64             `json:"change" doc:"The change that brought it; null when it was recorded of what was there."`
	Finding      *int64             `json:"finding" doc:"The finding that led to it."`
	Run          *int64             `json:"run" doc:"The run of that finding."`
	Role         settings.Role      `json:"role"`
	Key          string             `json:"key"`
	Title        string             `json:"title" doc:"Of the setting."`
	Pattern      string             `json:"pattern"`
	Reason       string             `json:"reason"`
	Who          string             `json:"who"`
	At           time.Time          `json:"at"`
	Environments []string           `json:"environments" doc:"None means all."`
	Classes      []string           `json:"classes" doc:"Of pages that it protects."`
	Personas     []string           `json:"personas" doc:"Whom it protects."`
	LookAgain    string             `json:"lookAgain" doc:"A day, or empty."`
	Due          bool               `json:"due" doc:"That day has come."`
	State        exclusion.State    `json:"state" enum:"proposed,active,retired"`
	InForce      []string           `json:"inForce" doc:"Environments whose settings have it now."`
	Retired      string             `json:"retired,omitempty" doc:"By whom, when and why."`
	Trial        *changes.ChangeRef `json:"trial" doc:"The change that tries whether it is still needed."`
	TrialSays    string             `json:"trialSays,omitempty" doc:"What came of that."`
}

// Unexplained is a pattern that a site has and nobody recorded.
type Unexplained struct {
	Role    settings.Role `json:"role"`
	Key     string        `json:"key"`
	Title   string        `json:"title"`
	Pattern string        `json:"pattern"`
	InForce []string      `json:"inForce"`
}

// LedgerView is a part of a site's ledger.
type LedgerView struct {
	Site        string          `json:"site"`
	Entries     []ExclusionView `json:"entries"`
	Total       int             `json:"total" doc:"Entries that the filter lets through."`
	Due         int             `json:"due" doc:"Entries of the whole ledger whose day has come."`
	Unexplained []Unexplained   `json:"unexplained"`
	Settings    []PatternHolder `json:"settings" doc:"Settings that exclude something."`
}

// PatternHolder is a setting that takes patterns.
type PatternHolder struct {
	Key   string        `json:"key"`
	Title string        `json:"title"`
	Role  settings.Role `json:"role"`
}

// LedgerFilter is the part of a ledger that is asked for.
type LedgerFilter struct {
	Q      string `query:"q" maxLength:"200" doc:"A part of pattern, reason, setting or who."`
	State  string `query:"state" enum:"proposed,active,retired,due" doc:"All when absent."`
	Role   string `query:"role"`
	Sort   string `query:"sort" enum:"recorded,pattern,reason,state,review,who" default:"recorded"`
	Down   bool   `query:"down" default:"true" doc:"The last or latest first."`
	Limit  int    `query:"limit" minimum:"1" maximum:"500" default:"100"`
	Offset int    `query:"offset" minimum:"0" default:"0"`
}

// Everything is the first page of the whole ledger.
var Everything = LedgerFilter{Limit: 100, Down: true}

// ordered puts entries into the order that is asked for; what is alike in it stays in the order in which it was recorded, the latest
// first. An entry that nobody has to review comes after those that somebody has.
func (f LedgerFilter) ordered(list []listed) {
	by := map[string]func(a, b ExclusionView) int{
		"pattern": func(a, b ExclusionView) int {
			return cmp.Compare(strings.ToLower(a.Pattern), strings.ToLower(b.Pattern))
		},
		"reason": func(a, b ExclusionView) int { return cmp.Compare(strings.ToLower(a.Reason), strings.ToLower(b.Reason)) },
		"state":  func(a, b ExclusionView) int { return cmp.Compare(a.State, b.State) },
		"who":    func(a, b ExclusionView) int { return cmp.Compare(strings.ToLower(a.Who), strings.ToLower(b.Who)) },
		"review": func(a, b ExclusionView) int { return cmp.Compare(a.LookAgain, b.LookAgain) },
	}[f.Sort]
	if by == nil {
		by = func(a, b ExclusionView) int { return cmp.Compare(a.ID, b.ID) }
	}
	slices.SortStableFunc(list, func(a, b listed) int {
		if f.Sort == "review" && (a.LookAgain == "") != (b.LookAgain == "") {
			return cmp.Compare(b.LookAgain, a.LookAgain)
		}
		if f.Down {
			a, b = b, a
		}
		return by(a.ExclusionView, b.ExclusionView)
	})
}

// listed is an entry of the ledger as it is listed and as it is stored.
type listed struct {
	ExclusionView
	row store.Exclusion
}

func (f LedgerFilter) lets(e ExclusionView) bool {
	if f.State == "due" && !e.Due || f.State != "" && f.State != "due" && f.State != string(e.State) || f.Role != "" && f.Role != string(e.Role) {
		return false
	}
	all := strings.ToLower(strings.Join([]string{e.Pattern, e.Reason, e.Title, e.Key, e.Who, string(e.Role)}, "\n"))
	return strings.Contains(all, strings.ToLower(strings.TrimSpace(f.Q)))
}

// inForce is which patterns each environment's settings have.
type inForce struct {
	holders []PatternHolder
	names   []string                       // of the environments, in order
	of      map[string]map[string][]string // key → pattern → environments
	order   map[string][]string            // key → patterns as they first come
}

func (d *Desk) inForce(ctx context.Context, siteID int64) (inForce, error) {
	f := inForce{of: map[string]map[string][]string{}, order: map[string][]string{}, holders: []PatternHolder{}}
	envs, err := d.Store.Environments(ctx, siteID)
	if err != nil {
		return f, err
	}
	for _, e := range envs {
		f.names = append(f.names, e.Name)
		if e.Catalogue.V == nil || e.Fingerprint == "" {
			continue
		}
		v, err := d.Store.Revision(ctx, siteID, e.Fingerprint)
		if err != nil {
			return f, err
		}
		for _, def := range e.Catalogue.V.Settings {
			if _, has := exclusion.KindOf(string(def.Role)); !has || def.Type != settings.Patterns {
				continue
			}
			if f.of[def.Key] == nil {
				f.of[def.Key] = map[string][]string{}
				f.holders = append(f.holders, PatternHolder{def.Key, def.Title, def.Role})
			}
			for _, p := range v.Strings(def.Key) {
				if f.of[def.Key][p] == nil {
					f.order[def.Key] = append(f.order[def.Key], p)
				}
				f.of[def.Key][p] = append(f.of[def.Key][p], e.Name)
			}
		}
	}
	return f, nil
}

func (f inForce) holder(key string) (PatternHolder, bool) {
	i := slices.IndexFunc(f.holders, func(h PatternHolder) bool { return h.Key == key })
	if i < 0 {
		return PatternHolder{}, false
	}
	return f.holders[i], true
}

// state is where an entry stands.
func (f inForce) state(e store.Exclusion) exclusion.State {
	if e.RetiredAt != nil {
		return exclusion.Retired
	}
	return exclusion.StateOf(e.Environments.V, f.of[e.Key][e.Pattern], f.names)
}

// Ledger is a part of a site's ledger, and what nobody explained.
func (d *Desk) Ledger(ctx context.Context, siteID int64, filter LedgerFilter) (LedgerView, error) {
	row, err := d.Store.Site(ctx, siteID)
	if err != nil {
		return LedgerView{}, err
	}
	f, err := d.inForce(ctx, siteID)
	if err != nil {
		return LedgerView{}, err
	}
	rows, err := d.Store.SiteExclusions(ctx, siteID)
	if err != nil {
		return LedgerView{}, err
	}
	v := LedgerView{Site: row.Name, Entries: []ExclusionView{}, Unexplained: []Unexplained{}, Settings: f.holders}
	explained := map[[2]string]bool{}
	today := time.Now().UTC().Format(time.DateOnly)
	var meant []listed
	for _, e := range rows {
		if e.RetiredAt == nil {
			explained[[2]string{e.Key, e.Pattern}] = true
		}
		x := ViewOf(e)
		h, _ := f.holder(e.Key)
		x.Title, x.State, x.InForce = h.Title, f.state(e), some(f.of[e.Key][e.Pattern])
		x.Due = x.LookAgain != "" && x.LookAgain <= today && x.State == exclusion.Active
		if x.Due {
			v.Due++
		}
		if filter.lets(x) {
			meant = append(meant, listed{x, e})
		}
	}
	v.Total = len(meant)
	filter.ordered(meant)
	from := min(filter.Offset, len(meant))
	for _, x := range meant[from:min(from+filter.Limit, len(meant))] {
		if err := d.withEvidence(ctx, &x.ExclusionView, x.row); err != nil {
			return v, err
		}
		v.Entries = append(v.Entries, x.ExclusionView)
	}
	for _, h := range f.holders {
		for _, p := range f.order[h.Key] {
			if !explained[[2]string{h.Key, p}] {
				v.Unexplained = append(v.Unexplained, Unexplained{h.Role, h.Key, h.Title, p, f.of[h.Key][p]})
			}
		}
	}
	return v, nil
}

// withEvidence adds the run that led to an entry and what came of a trial without it.
func (d *Desk) withEvidence(ctx context.Context, x *ExclusionView, e store.Exclusion) error {
	if e.FindingID != nil {
		found, err := d.Store.Finding(ctx, *e.FindingID)
		if err != nil && !errors.Is(err, store.ErrNotFound) {
			return err
		}
		if err == nil {
			x.Run = &found.RunID
		}
	}
	if e.TrialID == nil {
		return nil
	}
	situation, c, err := d.Changes.Situation(ctx, *e.TrialID)
	if err != nil {
		return err
	}
	x.Trial = &changes.ChangeRef{ID: c.ID, Title: c.Title, State: string(c.State)}
	switch {
	case c.State == release.Discarded:
		x.TrialSays = "The trial was discarded."
	case situation.Verdict == "":
		x.TrialSays = "Not tried on staging yet."
	case situation.Verdict == "clear":
		x.TrialSays = "Staging is clear without it: it no longer seems to be needed."
	case situation.Verdict == "broken":
		x.TrialSays = "Staging breaks without it: it is still needed."
	default:
		x.TrialSays = "The check without it is " + string(situation.Verdict) + "."
	}
	return nil
}

// ViewOf is an entry as it is shown, without what is in force.
func ViewOf(e store.Exclusion) ExclusionView {
	x := ExclusionView{ID: e.ID, Change: e.ChangeID, Finding: e.FindingID, Role: e.Role, Key: e.Key, Pattern: e.Pattern, Reason: e.Reason, Who: e.Who, At: e.MadeAt,
		Environments: some(e.Environments.V), Classes: some(e.Classes.V), Personas: some(e.Personas.V), InForce: []string{}, State: exclusion.Proposed}
	if e.LookAgain != nil {
		x.LookAgain = e.LookAgain.Format(time.DateOnly)
	}
	if e.RetiredAt != nil {
		x.State, x.Retired = exclusion.Retired, fmt.Sprintf("By %s on %s: %s", e.RetiredBy, e.RetiredAt.UTC().Format(time.DateOnly), e.RetiredWhy)
	}
	return x
}

// ViewsOf are entries as they are shown.
func ViewsOf(rows []store.Exclusion) []ExclusionView {
	out := []ExclusionView{}
	for _, e := range rows {
		out = append(out, ViewOf(e))
	}
	return out
}

// say puts what a person said into an entry, and tells what was changed. Names that the
// site does not have are refused.
func (w EntryWords) say(doc site.Site, e *store.Exclusion) (said string, err error) {
	var parts []string
	if w.Reason != nil && *w.Reason != e.Reason {
		e.Reason = *w.Reason
		parts = append(parts, "Reason: "+e.Reason)
	}
	lists := []struct {
		what  string
		given []string
		into  *store.JSON[[]string]
		known func(string) bool
	}{
		{"environments", w.Environments, &e.Environments, func(n string) bool { _, _, there := doc.Environment(n); return there }},
		{"classes", w.Classes, &e.Classes, func(string) bool { return true }},
		{"personas", w.Personas, &e.Personas, func(n string) bool { _, there := doc.Persona(n); return there }},
	}
	for _, l := range lists {
		if l.given == nil || slices.Equal(l.given, l.into.V) {
			continue
		}
		for _, name := range l.given {
			if !l.known(name) {
				return "", refused("body."+l.what, fmt.Errorf("the site has no %q among its %s", name, l.what))
			}
		}
		l.into.V = l.given
		parts = append(parts, "For "+l.what+": "+strings.Join(l.given, ", "))
	}
	if w.LookAgain != nil {
		day := (*time.Time)(nil)
		if *w.LookAgain != "" {
			t, err := time.Parse(time.DateOnly, *w.LookAgain)
			if err != nil {
				return "", refused("body.lookAgain", fmt.Errorf("%q is not a day such as 2026-03-01", *w.LookAgain))
			}
			day = &t
		}
		e.LookAgain = day
		parts = append(parts, "To be looked at again: "+map[bool]string{true: "never", false: *w.LookAgain}[day == nil])
	}
	return strings.Join(parts, ". "), nil
}
