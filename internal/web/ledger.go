package web

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"tidemarker/internal/core/exclusion"
	"tidemarker/internal/core/release"
	"tidemarker/internal/core/settings"
	"tidemarker/internal/core/site"
	"tidemarker/internal/store"
	"tidemarker/internal/work"
)

// LedgerFilter is the part of a ledger that is asked for.
type LedgerFilter struct {
	Q      string `query:"q" maxLength:"200" doc:"A part of pattern, reason, setting or who."`
	State  string `query:"state" enum:"proposed,active,retired,due" doc:"All when absent."`
	Role   string `query:"role"`
	Limit  int    `query:"limit" minimum:"1" maximum:"500" default:"100"`
	Offset int    `query:"offset" minimum:"0" default:"0"`
}

var everything = LedgerFilter{Limit: 100}

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

func (s *Server) inForce(ctx context.Context, siteID int64) (inForce, error) {
	f := inForce{of: map[string]map[string][]string{}, order: map[string][]string{}, holders: []PatternHolder{}}
	envs, err := s.Store.Environments(ctx, siteID)
	if err != nil {
		return f, err
	}
	for _, e := range envs {
		f.names = append(f.names, e.Name)
		if e.Catalogue.V == nil || e.Fingerprint == "" {
			continue
		}
		v, err := s.Store.Revision(ctx, siteID, e.Fingerprint)
		if err != nil {
			return f, err
		}
		for _, d := range e.Catalogue.V.Settings {
			if _, has := exclusion.KindOf(string(d.Role)); !has || d.Type != settings.Patterns {
				continue
			}
			if f.of[d.Key] == nil {
				f.of[d.Key] = map[string][]string{}
				f.holders = append(f.holders, PatternHolder{d.Key, d.Title, d.Role})
			}
			for _, p := range v.Strings(d.Key) {
				if f.of[d.Key][p] == nil {
					f.order[d.Key] = append(f.order[d.Key], p)
				}
				f.of[d.Key][p] = append(f.of[d.Key][p], e.Name)
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

func (s *Server) ledgerView(ctx context.Context, siteID int64, filter LedgerFilter) (LedgerView, error) {
	row, err := s.Store.Site(ctx, siteID)
	if err != nil {
		return LedgerView{}, err
	}
	f, err := s.inForce(ctx, siteID)
	if err != nil {
		return LedgerView{}, err
	}
	rows, err := s.Store.SiteExclusions(ctx, siteID)
	if err != nil {
		return LedgerView{}, err
	}
	v := LedgerView{Site: row.Name, Entries: []ExclusionView{}, Unexplained: []Unexplained{}, Settings: f.holders}
	explained := map[[2]string]bool{}
	today := time.Now().UTC().Format(time.DateOnly)
	for _, e := range rows {
		if e.RetiredAt == nil {
			explained[[2]string{e.Key, e.Pattern}] = true
		}
		x := exclusionView(e)
		h, _ := f.holder(e.Key)
		x.Title, x.State, x.InForce = h.Title, f.state(e), orEmpty(f.of[e.Key][e.Pattern])
		x.Due = x.LookAgain != "" && x.LookAgain <= today && x.State == exclusion.Active
		if x.Due {
			v.Due++
		}
		if !filter.lets(x) {
			continue
		}
		if v.Total++; v.Total <= filter.Offset || len(v.Entries) == filter.Limit {
			continue
		}
		if err := s.withEvidence(ctx, &x, e); err != nil {
			return v, err
		}
		v.Entries = append(v.Entries, x)
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
func (s *Server) withEvidence(ctx context.Context, x *ExclusionView, e store.Exclusion) error {
	if e.FindingID != nil {
		found, err := s.Store.Finding(ctx, *e.FindingID)
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
	situation, c, err := work.SituationOf(ctx, s.Store, *e.TrialID)
	if err != nil {
		return err
	}
	x.Trial = &ChangeRef{ID: c.ID, Title: c.Title, State: string(c.State)}
	switch {
	case c.State == release.Discarded:
		x.TrialSays = "The trial was discarded."
	case situation.Verdict == "":
		x.TrialSays = "Not tried on staging yet."
	case situation.Verdict == "clear":
		x.TrialSays = "Staging is clear without it: it seems to be needed no more."
	case situation.Verdict == "broken":
		x.TrialSays = "Staging breaks without it: it is still needed."
	default:
		x.TrialSays = "The check without it is " + string(situation.Verdict) + "."
	}
	return nil
}

func exclusionView(e store.Exclusion) ExclusionView {
	x := ExclusionView{ID: e.ID, Change: e.ChangeID, Finding: e.FindingID, Role: e.Role, Key: e.Key, Pattern: e.Pattern, Reason: e.Reason, Who: e.Who, At: e.MadeAt,
		Environments: orEmpty(e.Environments.V), Classes: orEmpty(e.Classes.V), Personas: orEmpty(e.Personas.V), InForce: []string{}, State: exclusion.Proposed}
	if e.LookAgain != nil {
		x.LookAgain = e.LookAgain.Format(time.DateOnly)
	}
	if e.RetiredAt != nil {
		x.State, x.Retired = exclusion.Retired, fmt.Sprintf("By %s on %s: %s", e.RetiredBy, e.RetiredAt.UTC().Format(time.DateOnly), e.RetiredWhy)
	}
	return x
}

func exclusionViews(rows []store.Exclusion) []ExclusionView {
	out := []ExclusionView{}
	for _, e := range rows {
		out = append(out, exclusionView(e))
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
				return "", refusedInput("body."+l.what, fmt.Errorf("the site has no %q among its %s", name, l.what))
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
				return "", refusedInput("body.lookAgain", fmt.Errorf("%q is not a day such as 2026-03-01", *w.LookAgain))
			}
			day = &t
		}
		e.LookAgain = day
		parts = append(parts, "To be looked at again: "+map[bool]string{true: "never", false: *w.LookAgain}[day == nil])
	}
	return strings.Join(parts, ". "), nil
}

func (s *Server) recordExclusion(ctx context.Context, siteID int64, key, pattern string, w EntryWords) error {
	row, err := s.Store.Site(ctx, siteID)
	if err != nil {
		return err
	}
	f, err := s.inForce(ctx, siteID)
	if err != nil {
		return err
	}
	h, known := f.holder(key)
	if !known {
		return refusedInput("body.key", fmt.Errorf("%q is not a setting of this site that takes patterns", key))
	}
	if w.Reason == nil {
		return refusedInput("body.reason", errors.New("say why it is excluded"))
	}
	e := store.Exclusion{SiteID: siteID, Role: h.Role, Key: key, Pattern: pattern, Who: who(ctx)}
	if _, err := w.say(row.Document.V, &e); err != nil {
		return err
	}
	if _, err := s.Store.AddExclusion(ctx, e); err != nil {
		return recorded(err)
	}
	return s.told(ctx, siteID, fmt.Sprintf("Recorded why “%s” is excluded by “%s”: %s", pattern, h.Title, e.Reason))
}

// recorded says what to do about an entry that is there already.
func recorded(err error) error {
	if errors.Is(err, store.ErrRecorded) {
		return huma.Error409Conflict("Nothing was recorded: the ledger has this pattern of this setting already. Edit that entry.")
	}
	return err
}

func (s *Server) told(ctx context.Context, siteID int64, text string) error {
	return errors.Join(s.Store.Record(ctx, store.Event{SiteID: siteID, Kind: "exclusion", Who: who(ctx), Text: text}), s.Store.Tell(ctx, store.Notice{Site: siteID}))
}

func (s *Server) editExclusions(ctx context.Context, siteID int64, ids []int64, w EntryWords) error {
	row, err := s.Store.Site(ctx, siteID)
	if err != nil {
		return err
	}
	if err := s.Store.ChangeExclusions(ctx, siteID, ids, who(ctx), func(e *store.Exclusion) (string, error) { return w.say(row.Document.V, e) }); err != nil {
		return err
	}
	return s.Store.Tell(ctx, store.Notice{Site: siteID})
}

func (s *Server) retireExclusions(ctx context.Context, siteID int64, ids []int64, why string) error {
	f, err := s.inForce(ctx, siteID)
	if err != nil {
		return err
	}
	now := time.Now().UTC()
	var names []string
	err = s.Store.ChangeExclusions(ctx, siteID, ids, who(ctx), func(e *store.Exclusion) (string, error) {
		if on := f.of[e.Key][e.Pattern]; len(on) > 0 {
			return "", huma.Error409Conflict(fmt.Sprintf("“%s” is still in force on %s. Try without it first; nothing was retired.", e.Pattern, strings.Join(on, " and ")))
		}
		if e.RetiredAt != nil {
			return "", nil
		}
		e.RetiredAt, e.RetiredBy, e.RetiredWhy = &now, who(ctx), why
		names = append(names, e.Pattern)
		return "Retired: " + why, nil
	})
	if err != nil || len(names) == 0 {
		return err
	}
	return s.told(ctx, siteID, fmt.Sprintf("Retired %s: %s", strings.Join(names, ", "), why))
}

// trialWithout begins a change that takes patterns out, so that a check on staging says
// whether they are still needed.
func (s *Server) trialWithout(ctx context.Context, siteID int64, ids []int64) (ChangeView, error) {
	rows, err := s.Store.SiteExclusions(ctx, siteID)
	if err != nil {
		return ChangeView{}, err
	}
	var mends []exclusion.Mend
	var names []string
	for _, id := range ids {
		i := slices.IndexFunc(rows, func(e store.Exclusion) bool { return e.ID == id })
		if i < 0 {
			return ChangeView{}, fmt.Errorf("exclusion %d: %w", id, store.ErrNotFound)
		}
		mends = append(mends, exclusion.Mend{Role: string(rows[i].Role), Key: rows[i].Key, Remove: []string{rows[i].Pattern}})
		names = append(names, rows[i].Pattern)
	}
	title := "Without " + strings.Join(names, ", ")
	if len(title) > 150 {
		title = fmt.Sprintf("Without %s and %d more", names[0], len(names)-1)
	}
	c, err := s.mend(ctx, siteID, title, "Is it still needed? When staging is clear without it, it is not.", mends)
	if err != nil {
		return c, err
	}
	return c, s.Store.ChangeExclusions(ctx, siteID, ids, who(ctx), func(e *store.Exclusion) (string, error) {
		e.TrialID = &c.ID
		return fmt.Sprintf("A trial without it was begun, change %d.", c.ID), nil
	})
}

// mend begins a change that adds and takes out patterns of what production has.
func (s *Server) mend(ctx context.Context, siteID int64, title, reason string, mends []exclusion.Mend) (ChangeView, error) {
	production, now, err := s.known(ctx, siteID)
	if err != nil {
		return ChangeView{}, err
	}
	edits := settings.Values{}
	for i, m := range mends {
		def, known := patternSetting(*production.Catalogue.V, m)
		if !known {
			return ChangeView{}, refusedInput(fmt.Sprintf("body.mends[%d]", i), fmt.Errorf("this site has no setting with patterns for %s", strings.TrimSpace(m.Key+" "+m.Role)))
		}
		mends[i].Key, mends[i].Role = def.Key, string(def.Role)
		list := now.With(edits).Strings(def.Key)
		list = slices.DeleteFunc(list, func(p string) bool { return slices.Contains(m.Remove, p) })
		for _, p := range m.Add {
			if !slices.Contains(list, p) {
				list = append(list, p)
			}
		}
		edits[def.Key] = orEmpty(list)
	}
	if len(settings.Diff(now, now.With(edits))) == 0 {
		return ChangeView{}, huma.Error409Conflict("Nothing would change on production: its settings are like this already. Where staging differs, a change is tried there; edit that one.")
	}
	words := ChangeWords{Title: title, Reason: reason}
	v, err := s.beginChange(ctx, siteID, words)
	if err != nil {
		return v, err
	}
	if v, err = s.editChange(ctx, v.ID, v.Version, words, edits); err != nil {
		return v, err
	}
	for _, m := range mends {
		for _, p := range m.Add {
			e := store.Exclusion{SiteID: siteID, ChangeID: &v.ID, Role: settings.Role(m.Role), Key: m.Key, Pattern: p, Reason: strings.TrimSpace(title + ". " + reason), Who: who(ctx)}
			if _, err := s.Store.AddExclusion(ctx, e); err != nil {
				return v, err
			}
		}
	}
	return s.changeView(ctx, v.ID)
}

// patternSetting is the setting that a mend is about: by its key, or by its role.
func patternSetting(cat settings.Catalogue, m exclusion.Mend) (settings.Definition, bool) {
	d, known := cat.Find(m.Key)
	if m.Key == "" {
		if all := cat.WithRole(settings.Role(m.Role)); len(all) > 0 {
			d, known = all[0], true
		}
	}
	return d, known && d.Type == settings.Patterns
}

func (s *Server) importExclusions(ctx context.Context, siteID int64, format, text string) (ImportedView, error) {
	row, err := s.Store.Site(ctx, siteID)
	if err != nil {
		return ImportedView{}, err
	}
	read := exclusion.ReadCSV
	if format == "json" {
		read = exclusion.ReadJSON
	}
	records, faults := read([]byte(text))
	f, err := s.inForce(ctx, siteID)
	if err != nil {
		return ImportedView{}, err
	}
	have := map[[2]string]bool{}
	rows, err := s.Store.SiteExclusions(ctx, siteID)
	if err != nil {
		return ImportedView{}, err
	}
	for _, e := range rows {
		have[[2]string{e.Key, e.Pattern}] = have[[2]string{e.Key, e.Pattern}] || e.RetiredAt == nil
	}
	var list []store.Exclusion
	var v ImportedView
	for _, rec := range records {
		if slices.ContainsFunc(faults, func(f exclusion.LineFault) bool { return f.Line == rec.Line }) {
			continue // what is wrong with it by itself is said already
		}
		fault := func(err error) { faults = append(faults, exclusion.LineFault{Line: rec.Line, Why: err.Error()}) }
		h, known := f.holder(rec.Key)
		if rec.Key == "" {
			i := slices.IndexFunc(f.holders, func(h PatternHolder) bool { return string(h.Role) == rec.Role })
			if known = i >= 0; known {
				h = f.holders[i]
			}
		}
		if !known {
			fault(fmt.Errorf("this site has no setting for %s", strings.TrimSpace(rec.Key+" "+rec.Role)))
			continue
		}
		e := store.Exclusion{SiteID: siteID, Role: h.Role, Key: h.Key, Pattern: rec.Pattern, Reason: rec.Reason, Who: who(ctx)}
		if _, err := (EntryWords{Environments: rec.Environments, Classes: rec.Classes, Personas: rec.Personas, LookAgain: &rec.LookAgain}).say(row.Document.V, &e); err != nil {
			fault(err)
			continue
		}
		if have[[2]string{h.Key, rec.Pattern}] {
			v.Passed++
			continue
		}
		have[[2]string{h.Key, rec.Pattern}] = true
		list = append(list, e)
	}
	if len(faults) > 0 {
		slices.SortStableFunc(faults, func(a, b exclusion.LineFault) int { return a.Line - b.Line })
		var details []error
		for _, x := range faults[:min(len(faults), 100)] {
			details = append(details, &huma.ErrorDetail{Message: x.Error(), Location: fmt.Sprintf("body.text line %d", x.Line)})
		}
		return v, huma.Error422UnprocessableEntity(fmt.Sprintf("Nothing was read in: %d lines are not right. The first: %s.", len(faults), faults[0].Error()), details...)
	}
	v.Added = len(list)
	if err := s.Store.AddExclusions(ctx, list); err != nil {
		return v, recorded(err)
	}
	return v, s.told(ctx, siteID, fmt.Sprintf("Read in %d entries of the ledger.", v.Added))
}

// ledgerRecords is the whole ledger as it is written out.
func (s *Server) ledgerRecords(ctx context.Context, siteID int64) ([]exclusion.Record, error) {
	v, err := s.ledgerView(ctx, siteID, LedgerFilter{Limit: 1 << 30})
	out := []exclusion.Record{}
	for _, e := range v.Entries {
		out = append(out, exclusion.Record{Role: string(e.Role), Key: e.Key, Pattern: e.Pattern, Reason: e.Reason, Environments: e.Environments, Classes: e.Classes,
			Personas: e.Personas, LookAgain: e.LookAgain, State: string(e.State)})
	}
	return out, err
}

func (s *Server) coverage(ctx context.Context, envID int64) (CoverageView, error) {
	g, err := work.RuleContextOf(ctx, s.Store, envID)
	if err != nil {
		return CoverageView{}, err
	}
	if g.Known.Inside, err = g.Inside(ctx, s.Store); err != nil {
		return CoverageView{}, err
	}
	return CoverageView{exclusion.Coverage(g.Layer, g.Known), len(g.Known.Pages), len(g.Known.Resources), g.Run}, nil
}

func (s *Server) matrix(ctx context.Context, envID int64) (MatrixView, error) {
	g, err := work.RuleContextOf(ctx, s.Store, envID)
	if err != nil {
		return MatrixView{}, err
	}
	return MatrixView{g.Environment.Name, g.Run, exclusion.Matrix(g.Layer, g.Known.Pages, exclusion.AllKinds(g.Known.People), g.Devices(), g.Decided, g.Seen)}, nil
}

func (s *Server) tryPattern(ctx context.Context, envID int64, role, pattern string, more []string) (TriedView, error) {
	kind, has := exclusion.KindOf(role)
	if !has {
		return TriedView{}, refusedInput("body.role", fmt.Errorf("%q is not a role that has patterns", role))
	}
	g, err := work.RuleContextOf(ctx, s.Store, envID)
	if err != nil {
		return TriedView{}, err
	}
	in, err := g.Inside(ctx, s.Store)
	if err != nil {
		return TriedView{}, err
	}
	texts := slices.Concat(more, in.For(role))
	switch kind {
	case exclusion.Path:
		for _, p := range g.Known.Pages {
			texts = append(texts, p.Path)
		}
		texts = append(texts, g.Known.Asked...)
		texts = append(texts, in.Links...)
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

// shortened is the beginning of a text of a site, as of an inline script.
func shortened(text string) string {
	if r := []rune(text); len(r) > 200 {
		return string(r[:199]) + "…"
	}
	return text
}

func (s *Server) decidePolicy(ctx context.Context, siteID int64, class, persona, policy, reason string) error {
	row, err := s.Store.Site(ctx, siteID)
	if err != nil {
		return err
	}
	if _, known := row.Document.V.Persona(persona); !known {
		return refusedInput("body.persona", fmt.Errorf("the site has no persona %q", persona))
	}
	if err := s.Store.DecidePolicy(ctx, store.DecidedPolicy{SiteID: siteID, Class: class, Persona: persona, Policy: policy, Reason: reason, Who: who(ctx)}); err != nil {
		return err
	}
	says := map[string]string{"": "as by default", "never": "never served from the cache", "all": "cached for all", "own": "a copy for each"}[policy]
	return s.told(ctx, siteID, fmt.Sprintf("Decided for %s on pages of the class %s: %s. %s", persona, class, says, reason))
}
