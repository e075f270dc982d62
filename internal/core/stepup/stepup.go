// Package stepup goes up through the bundles, from cautious to bold, and keeps what is proven: it
// tries what a bundle adds, has the culprits of what breaks searched for, excludes what has to be
// or leaves the culprit out, and goes on. It ends with one set of edits, the boldest that passed.
//
// It is pure: it says what to do next and is told what came of it.
package stepup

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"tidemarker/internal/core/culprit"
	"tidemarker/internal/core/evidence"
	"tidemarker/internal/core/settings"
)

// Phase is what a step-up does now.
type Phase string

// The phases.
const (
	Choosing  Phase = ""
	Trying    Phase = "trying"
	Searching Phase = "searching"
	// Confirming is the last try: of what is proven, after something else was tried.
	Confirming Phase = "confirming"
	Over       Phase = "over"
)

// mostMends is how often one bundle is mended before all that it adds is left out.
const mostMends = 5

// Exclusion is an entry that a list has to have so that a setting may stay.
type Exclusion struct {
	Key     string `json:"key"`
	Pattern string `json:"pattern"`
	For     string `json:"for" doc:"The setting that it lets stay."`
}

// Dropped is a setting that was left out, and why.
type Dropped struct {
	Key string `json:"key"`
	Why string `json:"why"`
}

// Step is one line of a step-up's record.
type Step struct {
	Bundle   string           `json:"bundle"`
	Kind     string           `json:"kind" enum:"try,search,skip"`
	Run      int64            `json:"run,omitempty"`
	Adds     []string         `json:"adds" doc:"Settings that the bundle adds to what is proven."`
	Verdict  evidence.Verdict `json:"verdict,omitempty"`
	Text     string           `json:"text"`
	Dropped  []Dropped        `json:"dropped"`
	Excluded []Exclusion      `json:"excluded"`
	Looks    int              `json:"looks"`
}

// StepUp is how a step-up stands.
type StepUp struct {
	Phase    Phase           `json:"phase" enum:",trying,searching,confirming,over"`
	Level    int             `json:"level" doc:"Index of the bundle that is tried; -1 before the first."`
	Proven   settings.Values `json:"proven" doc:"Edits that passed."`
	Edits    settings.Values `json:"edits" doc:"Edits that are on trial."`
	Run      int64           `json:"run" doc:"The try whose end is waited for, or that is searched; 0 when none was begun."`
	Search   int64           `json:"search" doc:"The search whose end is waited for."`
	Mends    int             `json:"mends"`
	Again    int             `json:"again"`
	Dropped  []Dropped       `json:"dropped"`
	Excluded []Exclusion     `json:"excluded"`
	Steps    []Step          `json:"steps"`
	Summary  string          `json:"summary"`
}

// New is a step-up that has not begun.
func New() StepUp {
	return StepUp{Level: -1, Proven: settings.Values{}, Edits: settings.Values{}, Dropped: []Dropped{}, Excluded: []Exclusion{}, Steps: []Step{}}
}

// Act is what a step-up does next.
type Act string

// The acts.
const (
	Try    Act = "try"    // put the step-up's edits in force and check them
	Search Act = "search" // find the culprit of what the step-up's run found
	End    Act = "end"    // nothing more to do
)

// Site is what a step-up goes up on.
type Site struct {
	Catalogue settings.Catalogue
	Host      settings.Host
	Base      settings.Values // complete: what production has
}

// Next says what to do, and how the step-up stands then.
func (c StepUp) Next(s Site) (StepUp, Act) {
	for {
		switch {
		case c.Phase == Over:
			return c, End
		case c.Phase == Searching:
			return c, Search
		case c.Phase == Confirming:
			return c, Try
		case c.Phase == Trying && !maps.EqualFunc(c.Edits, c.Proven, settings.Equal):
			return c, Try
		}
		// What is on trial is proven, or nothing is left of what the bundle added.
		c.Level++
		if c.Level >= len(settings.Bundles) {
			c = c.end("Every bundle was tried.", true)
			continue
		}
		c.Phase, c.Mends, c.Again = Trying, 0, 0
		c.Edits = c.Proven.With(c.adds(s))
		if len(c.added()) == 0 {
			c.Steps = append(c.Steps, Step{Bundle: c.bundle(), Kind: "skip", Adds: []string{}, Dropped: []Dropped{}, Excluded: []Exclusion{}, Text: "It adds nothing to what is there."})
		}
	}
}

func (c StepUp) bundle() string {
	if c.Level >= len(settings.Bundles) {
		return "all together"
	}
	return settings.Bundles[c.Level].Name
}

// adds is what the bundle switches on beside what is proven. What it would switch off stays: it was
// proven, or production has it.
func (c StepUp) adds(s Site) settings.Values {
	now := s.Base.With(c.Proven)
	edits, _ := settings.Bundles[c.Level].Edits(s.Catalogue, now, s.Host)
	out := settings.Values{}
	for key, value := range edits {
		d, known := s.Catalogue.Find(key)
		left := slices.ContainsFunc(c.Dropped, func(x Dropped) bool { return x.Key == key })
		if known && d.Active(value) && !d.Irreversible && !left {
			out[key] = value
		}
	}
	return out
}

// added are the settings on trial that are not proven, in order of their keys.
func (c StepUp) added() []string {
	var out []string
	for _, key := range slices.Sorted(maps.Keys(c.Edits)) {
		if !settings.Equal(c.Edits[key], c.Proven[key]) {
			out = append(out, key)
		}
	}
	return out
}

func (c StepUp) step(kind string, run int64, v evidence.Verdict, text string, looks int) Step {
	adds := c.added()
	if adds == nil {
		adds = []string{}
	}
	return Step{Bundle: c.bundle(), Kind: kind, Run: run, Adds: adds, Verdict: v, Text: text, Dropped: []Dropped{}, Excluded: []Exclusion{}, Looks: looks}
}

// Result is how a try ended.
type Result struct {
	Run        int64
	Verdict    evidence.Verdict
	Summary    string
	Looks      int
	Searchable bool      // what it found can be searched for
	Likely     []float64 // how suspect each of Parts is, by what was found
	Parts      []culprit.Part
}

// Tried tells how the try of what is on trial ended.
func (c StepUp) Tried(s Site, r Result) StepUp {
	step := c.step("try", r.Run, r.Verdict, r.Summary, r.Looks)
	c.Run = 0
	switch {
	case c.Phase == Confirming:
		c.Phase = Over
		if r.Verdict != evidence.VerdictClear {
			c.Summary += " Together they were tried once more, which was not clear: " + r.Summary
		}
	case r.Verdict == evidence.VerdictClear:
		c.Proven, c.Again = c.Edits, 0
	case r.Verdict == evidence.VerdictNotChecked && c.Again > 0:
		c.Steps = append(c.Steps, step)
		return c.end("What is on trial could not be checked, twice: "+r.Summary, false)
	case r.Verdict == evidence.VerdictNotChecked:
		c.Again++
	case r.Searchable:
		c.Phase, c.Run = Searching, r.Run
	default:
		c, step = c.dropSuspect(s, step, r)
	}
	c.Steps = append(c.Steps, step)
	return c
}

// dropSuspect leaves out what is most suspect where nothing can be searched for.
func (c StepUp) dropSuspect(s Site, step Step, r Result) (StepUp, Step) {
	suspect, most := "", -1.0
	added := c.added()
	for i, p := range r.Parts {
		if slices.Contains(added, p.Key) && p.Entry == "" && i < len(r.Likely) && r.Likely[i] > most {
			suspect, most = p.Key, r.Likely[i]
		}
	}
	if suspect == "" && len(added) > 0 {
		suspect = added[0]
	}
	return c.mend(s, step, []Dropped{{suspect, "The most suspect of what was added. " + r.Summary}}, nil)
}

// Culprit is something that breaks the site, with the fewest exclusions with which it may stay;
// none when none helps.
type Culprit struct {
	Parts    []culprit.Part
	Excluded []Exclusion
}

// Found is how a search ended.
type Found struct {
	Run      int64
	Verdict  evidence.Verdict
	Summary  string
	Looks    int
	Culprits []Culprit
}

// Searched tells what a search found.
func (c StepUp) Searched(s Site, f Found, tried Result) StepUp {
	step := c.step("search", f.Run, f.Verdict, f.Summary, f.Looks)
	c.Phase, c.Run, c.Search = Trying, 0, 0
	if len(f.Culprits) == 0 {
		c, step = c.dropSuspect(s, step, tried)
		c.Steps = append(c.Steps, step)
		return c
	}
	var dropped []Dropped
	var excluded []Exclusion
	for _, x := range f.Culprits {
		if len(x.Excluded) > 0 {
			excluded = append(excluded, x.Excluded...)
			continue
		}
		if key := c.worst(s, x.Parts, tried); key != "" {
			why := "It breaks the site."
			if n := len(x.Parts) - 1; n > 0 {
				why = fmt.Sprintf("It breaks the site together with %s.", counted(n, "other", "others"))
			}
			dropped = append(dropped, Dropped{key, why})
		}
	}
	c, step = c.mend(s, step, dropped, excluded)
	c.Steps = append(c.Steps, step)
	return c
}

// worst is, of settings that break the site together, the one to leave out: of those that were
// added just now the most suspect, then the riskiest.
func (c StepUp) worst(s Site, parts []culprit.Part, tried Result) string {
	best, most, added := "", -1.0, c.added()
	for _, p := range parts {
		d, _ := s.Catalogue.Find(p.Key)
		r := 0.1 * float64(d.Risk)
		if i := slices.IndexFunc(tried.Parts, func(t culprit.Part) bool { return t.Key == p.Key }); i >= 0 && i < len(tried.Likely) {
			r += tried.Likely[i]
		}
		if slices.Contains(added, p.Key) {
			r += 1000
		}
		if r > most {
			best, most = p.Key, r
		}
	}
	return best
}

// mend leaves settings out and puts exclusions in. What cannot be in force without what is left
// out goes with it; what was mended too often goes altogether.
func (c StepUp) mend(s Site, step Step, dropped []Dropped, excluded []Exclusion) (StepUp, Step) {
	c.Mends++
	edits := maps.Clone(c.Edits)
	for _, x := range excluded {
		list := s.Base.With(edits).Strings(x.Key)
		if !slices.Contains(list, x.Pattern) {
			edits[x.Key] = append(slices.Clone(list), x.Pattern)
		}
	}
	if c.Mends > mostMends {
		for _, key := range c.added() {
			dropped = append(dropped, Dropped{key, fmt.Sprintf("%s was fixed %d times and did not pass.", c.bundle(), mostMends)})
		}
	}
	for _, d := range dropped {
		delete(edits, d.Key)
	}
	for again := true; again; {
		again = false
		for _, key := range slices.Sorted(maps.Keys(edits)) {
			without := maps.Clone(edits)
			delete(without, key)
			stands := s.Catalogue.Obstacles(s.Base.With(without), s.Base.With(edits), s.Host)
			if len(stands) > 0 {
				edits, again = without, true
				dropped = append(dropped, Dropped{key, strings.Join(stands, " ")})
				break
			}
		}
	}
	c.Edits = edits
	for _, d := range dropped {
		if _, was := c.Proven[d.Key]; was { // what was proven before turned out not to hold
			c.Proven = maps.Clone(c.Proven)
			delete(c.Proven, d.Key)
		}
	}
	c.Dropped = append(slices.Clone(c.Dropped), dropped...)
	c.Excluded = append(slices.Clone(c.Excluded), excluded...)
	step.Dropped, step.Excluded = append(step.Dropped, dropped...), append(step.Excluded, excluded...)
	return c, step
}

// Stop ends a step-up with what is proven.
func (c StepUp) Stop(why string) StepUp {
	if c.Phase == Over {
		return c
	}
	return c.end(why, false)
}

// end ends a step-up, or has what is proven tried once more, where something else was tried last.
func (c StepUp) end(why string, confirm bool) StepUp {
	c.Phase, c.Edits, c.Run, c.Search = Over, c.Proven, 0, 0
	n := len(c.Proven)
	switch {
	case n == 0:
		c.Summary = why + " Nothing was proven beyond what production has."
		return c
	case len(c.Dropped) > 0:
		c.Summary = fmt.Sprintf("%s %s passed; %s left out.", why, counted(n, "edit", "edits"), counted(len(c.Dropped), "setting was", "settings were"))
	default:
		c.Summary = fmt.Sprintf("%s %s passed; nothing had to be left out.", why, counted(n, "edit", "edits"))
	}
	clear := true
	for _, s := range c.Steps {
		if s.Kind == "try" {
			clear = s.Verdict == evidence.VerdictClear
		}
	}
	if confirm && !clear {
		c.Phase = Confirming
	}
	return c
}

func counted(n int, one, many string) string {
	if n == 1 {
		return "1 " + one
	}
	return fmt.Sprintf("%d %s", n, many)
}

// Looks is how many looks a step-up has made so far.
func (c StepUp) Looks() int {
	n := 0
	for _, s := range c.Steps {
		n += s.Looks
	}
	return n
}
