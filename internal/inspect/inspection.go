package inspect

import (
	"context"
	"sync"
	"time"

	"tidemarker/internal/browser"
	"tidemarker/internal/core/evidence"
	"tidemarker/internal/core/exclusion"
	"tidemarker/internal/core/httpcache"
	"tidemarker/internal/core/measure"
	"tidemarker/internal/core/settings"
	"tidemarker/internal/core/site"
	"tidemarker/internal/speedlayer"
	"tidemarker/internal/store"
)

// Tools are what a process inspects with.
type Tools struct {
	Blobs   store.Blobs                      // where pictures and bodies are kept
	Browser func() (*browser.Browser, error) // started at the first look
	// Little is how often the usual pages are loaded beside each mark and check, to see how fast they are; 0 loads none
	// unless the site has budgets.
	Little int
	// ReadyFor is for how long somebody who was made ready for a cache isolation test is
	// used again by later ones, for sites that do not like many sign-ins; 0 makes everybody
	// ready anew.
	ReadyFor time.Duration

	mu   sync.Mutex
	made map[int64]madeReady // by environment
}

// madeReady is who was made ready on an environment, and until when that counts.
type madeReady struct {
	state map[[2]string]browser.State
	until time.Time
}

// stillReady is who was made ready for an earlier isolation test and counts yet.
func (t *Tools) stillReady(env int64) (map[[2]string]browser.State, bool) {
	t.mu.Lock()
	defer t.mu.Unlock()
	m, there := t.made[env]
	return m.state, there && time.Now().Before(m.until)
}

func (t *Tools) keepReady(env int64, state map[[2]string]browser.State) {
	if t.ReadyFor <= 0 {
		return
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.made == nil {
		t.made = map[int64]madeReady{}
	}
	t.made[env] = madeReady{state, time.Now().Add(t.ReadyFor)}
}

// Inspection is one inspection of an environment.
type Inspection struct {
	*Tools
	Store  *store.Store
	Run    int64 // under which the evidence is kept
	SiteID int64
	EnvID  int64
	Site   site.Site
	Env    site.Environment // as the site's document has it

	Layer     speedlayer.Layer
	Able      speedlayer.Abilities
	Catalogue settings.Catalogue
	Values    settings.Values   // in force
	Compared  settings.Values   // of the mark; nil where it has the same
	Base      evidence.Baseline // the mark to compare with; empty while one is taken

	// Changed tells that the settings were changed just now, so that nothing that is cached
	// may stay. Otherwise the pages of the test plan are purged where that is possible, so
	// that visitors of a big site find the others cached.
	Changed   bool
	Returning *Returning    // browsers from before the change; nil when nothing was changed
	Turns     Turns         // for looking with the earlier settings
	Isolated  bool          // what is asked without a browser counts as looks: a cache isolation test, a look later on
	Measures  measure.Scope // of a measurement
	Watch     *WatchLook    // of a look of a watch
	MarkRun   int64         // that took the mark; 0 when there is none
	Editing   string
	Progress  *Progress

	beginning sync.Once
	began     time.Time // what the browser's clock says where the mark says nothing

	sourcing sync.Once
	sources  *browser.Sources

	read    sync.Once
	reader  *httpcache.Reader           // one for all, since it remembers what it has seen
	ready   map[[2]string]browser.State // personas made ready in this pass, by name and device
	why     map[[2]string]string        // why the others are not
	renewed []store.Renewal             // where the site itself moved on
	grows   []exclusion.Moment          // when something grows old that did not with the earlier settings
	left    []leftEdit                  // publishing tests that could not be taken back
}

// Result is what an inspection came to.
type Result struct {
	Verdict  evidence.Verdict
	Summary  string
	Findings []evidence.Finding
}

// facts tells how responses were served, by the environment's signal.
func (r *Inspection) facts() *httpcache.Reader {
	r.read.Do(func() { r.reader = httpcache.NewReader(r.Env.Signal()) })
	return r.reader
}

// plain asks for pages without a browser.
func (r *Inspection) plain() browser.Plain {
	return browser.Plain{Env: r.Env, Reader: r.facts(), Keep: r.Blobs.Put}
}

// conclude keeps what was found and comes to a verdict.
func (r *Inspection) conclude(ctx context.Context, findings []evidence.Finding) (Result, error) {
	findings = append(findings, r.leftFindings()...)
	look, err := r.Store.Look(ctx, r.Run, 1)
	if err != nil {
		return Result{}, err
	}
	findings = evidence.Tie(r.Base, look, findings)
	evidence.Sort(findings)
	if err := r.Store.SaveFindings(ctx, r.Run, findings); err != nil {
		return Result{}, err
	}
	looks := r.Progress.Looks()
	v := evidence.Judge(findings, looks)
	return Result{v, evidence.Summarise(v, findings, looks), findings}, nil
}
