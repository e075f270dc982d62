package exclusions

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"tidemarker/internal/core/exclusion"
	"tidemarker/internal/store"
)

// EntryWords are what a person says of an entry.
type EntryWords struct {
	Reason       *string  `json:"reason,omitempty" minLength:"1" maxLength:"2000"`
	Environments []string `json:"environments,omitempty" doc:"Left as they are when absent."`
	Classes      []string `json:"classes,omitempty"`
	Personas     []string `json:"personas,omitempty"`
	LookAgain    *string  `json:"lookAgain,omitempty" doc:"A day as 2026-03-01; empty for none."`
}

// Record records why something is excluded.
func (d *Desk) Record(ctx context.Context, siteID int64, key, pattern string, w EntryWords, who string) error {
	row, err := d.Store.Site(ctx, siteID)
	if err != nil {
		return err
	}
	f, err := d.inForce(ctx, siteID)
	if err != nil {
		return err
	}
	h, known := f.holder(key)
	if !known {
		return refused("body.key", fmt.Errorf("%q is not a setting of this site that takes patterns", key))
	}
	if w.Reason == nil {
		return refused("body.reason", errors.New("say why it is excluded"))
	}
	e := store.Exclusion{SiteID: siteID, Role: h.Role, Key: key, Pattern: pattern, Who: who}
	if _, err := w.say(row.Document.V, &e); err != nil {
		return err
	}
	if _, err := d.Store.AddExclusion(ctx, e); err != nil {
		return recorded(err)
	}
	return d.told(ctx, siteID, who, fmt.Sprintf("Recorded why “%s” is in “%s”: %s", pattern, h.Title, e.Reason))
}

// recorded says what to do about an entry that is there already.
func recorded(err error) error {
	if errors.Is(err, store.ErrRecorded) {
		return conflict("Nothing was recorded: the ledger has this pattern of this setting already. Edit that entry.")
	}
	return err
}

func (d *Desk) told(ctx context.Context, siteID int64, who, text string) error {
	return errors.Join(d.Store.Record(ctx, store.Event{SiteID: siteID, Kind: "exclusion", Who: who, Text: text}), d.Store.Tell(ctx, store.Signal{Site: siteID}))
}

// Edit edits entries of the ledger, all or none.
func (d *Desk) Edit(ctx context.Context, siteID int64, ids []int64, w EntryWords, who string) error {
	row, err := d.Store.Site(ctx, siteID)
	if err != nil {
		return err
	}
	if err := d.Store.ChangeExclusions(ctx, siteID, ids, who, func(e *store.Exclusion) (string, error) { return w.say(row.Document.V, e) }); err != nil {
		return err
	}
	return d.Store.Tell(ctx, store.Signal{Site: siteID})
}

// Retire retires entries whose patterns are in force nowhere.
func (d *Desk) Retire(ctx context.Context, siteID int64, ids []int64, why, who string) error {
	f, err := d.inForce(ctx, siteID)
	if err != nil {
		return err
	}
	now := time.Now().UTC()
	var names []string
	err = d.Store.ChangeExclusions(ctx, siteID, ids, who, func(e *store.Exclusion) (string, error) {
		if on := f.of[e.Key][e.Pattern]; len(on) > 0 {
			return "", conflict(fmt.Sprintf("“%s” is still in force on %s. Try without it first; nothing was retired.", e.Pattern, strings.Join(on, " and ")))
		}
		if e.RetiredAt != nil {
			return "", nil
		}
		e.RetiredAt, e.RetiredBy, e.RetiredWhy = &now, who, why
		names = append(names, e.Pattern)
		return "Retired: " + why, nil
	})
	if err != nil || len(names) == 0 {
		return err
	}
	return d.told(ctx, siteID, who, fmt.Sprintf("Retired %s: %s", strings.Join(names, ", "), why))
}

// ImportedView is what came of reading entries in.
type ImportedView struct {
	Added  int `json:"added"`
	Passed int `json:"passed" doc:"Entries that the ledger had already."`
}

// Import reads entries from CSV or JSON, all or none; *[LineFaults] says what is wrong,
// line by line. What the ledger has already is passed over.
func (d *Desk) Import(ctx context.Context, siteID int64, format, text, who string) (ImportedView, error) {
	row, err := d.Store.Site(ctx, siteID)
	if err != nil {
		return ImportedView{}, err
	}
	read := exclusion.ReadCSV
	if format == "json" {
		read = exclusion.ReadJSON
	}
	records, faults := read([]byte(text))
	f, err := d.inForce(ctx, siteID)
	if err != nil {
		return ImportedView{}, err
	}
	have := map[[2]string]bool{}
	rows, err := d.Store.SiteExclusions(ctx, siteID)
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
		h, known := f.holderFor(rec)
		if !known {
			fault(fmt.Errorf("this site has no setting for %s", strings.TrimSpace(rec.Key+" "+rec.Role)))
			continue
		}
		e := store.Exclusion{SiteID: siteID, Role: h.Role, Key: h.Key, Pattern: rec.Pattern, Reason: rec.Reason, Who: who}
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
		return v, LineFaults(faults)
	}
	v.Added = len(list)
	if err := d.Store.AddExclusions(ctx, list); err != nil {
		return v, recorded(err)
	}
	return v, d.told(ctx, siteID, who, fmt.Sprintf("Read in %d entries of the ledger.", v.Added))
}

// holderFor is the setting that a record of a ledger belongs to: the one that it names,
// or the first of its role when it names none.
func (f inForce) holderFor(rec exclusion.Record) (PatternHolder, bool) {
	if rec.Key != "" {
		return f.holder(rec.Key)
	}
	i := slices.IndexFunc(f.holders, func(h PatternHolder) bool { return string(h.Role) == rec.Role })
	if i < 0 {
		return PatternHolder{}, false
	}
	return f.holders[i], true
}

// Records is the whole ledger as it is written out.
func (d *Desk) Records(ctx context.Context, siteID int64) ([]exclusion.Record, error) {
	v, err := d.Ledger(ctx, siteID, LedgerFilter{Limit: 1 << 30, Down: true})
	out := []exclusion.Record{}
	for _, e := range v.Entries {
		out = append(out, exclusion.Record{Role: string(e.Role), Key: e.Key, Pattern: e.Pattern, Reason: e.Reason, Environments: e.Environments, Classes: e.Classes,
			Personas: e.Personas, LookAgain: e.LookAgain, State: string(e.State)})
	}
	return out, err
}
