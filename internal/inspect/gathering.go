package inspect

import (
	"context"
	"errors"
	"image"
	"maps"
	"slices"
	"sync"

	"tidemarker/internal/core/evidence"
	"tidemarker/internal/core/site"
	"tidemarker/internal/core/visual"
	"tidemarker/internal/store"
)

func (r *Inspection) gathering() *gathering {
	return &gathering{inspection: r, seen: map[evidence.Key][]evidence.Finding{}, first: map[evidence.Key][]evidence.Finding{},
		pages: map[evidence.Key]evidence.PageLook{}, bases: map[evidence.Key]evidence.Baseline{}}
}

// gathering collects findings as they come.
type gathering struct {
	inspection *Inspection
	second     bool // what comes now is held against what came first
	silent     bool // nobody is told, and nothing stored: it is for a control
	// took is called with what was found of each thing as soon as it is known; nil where nobody waits for it.
	took func(evidence.Key, []evidence.Finding)

	mu    sync.Mutex
	seen  map[evidence.Key][]evidence.Finding
	first map[evidence.Key][]evidence.Finding // what was found of a page before it was looked at a second time
	pages map[evidence.Key]evidence.PageLook  // first looks, for the second to be compared with
	// bases are baselines that know more of what changes by itself on one page.
	bases map[evidence.Key]evidence.Baseline
}

// base is what a page is held against.
func (g *gathering) base(k evidence.Key) evidence.Baseline {
	g.mu.Lock()
	defer g.mu.Unlock()
	if b, more := g.bases[k]; more {
		return b
	}
	return g.inspection.Base
}

func (g *gathering) learned(k evidence.Key, b evidence.Baseline) {
	g.mu.Lock()
	defer g.mu.Unlock()
	g.bases[k] = b
}

// again picks the pages that are to be looked at a second time: each with a cause that could be
// chance, in a sample no more than [mostAgain] for each cause; without, those that are left of
// causes that some page of the sample did not show again.
func (g *gathering) again(tasks []site.PageTask, sample bool) map[evidence.Key]bool {
	g.mu.Lock()
	defer g.mu.Unlock()
	doubted := map[string]bool{}
	for k, before := range g.first {
		for _, f := range before {
			if f.NeedsSecondLook() && !slices.ContainsFunc(g.seen[k], func(now evidence.Finding) bool { return now.OwnCause() == f.OwnCause() && now.Severity == f.Severity }) {
				doubted[f.OwnCause()] = true
			}
		}
	}
	out, of := map[evidence.Key]bool{}, map[string]int{}
	for _, t := range tasks {
		k := pageKey(t)
		if _, twice := g.first[k]; twice {
			continue
		}
		for _, f := range g.seen[k] {
			if f.NeedsSecondLook() && (sample && of[f.OwnCause()] < mostAgain || !sample && doubted[f.OwnCause()]) {
				out[k] = true
			}
		}
		if !out[k] {
			continue
		}
		causes := map[string]bool{}
		for _, f := range g.seen[k] {
			causes[f.OwnCause()] = true
		}
		for cause := range causes {
			of[cause]++
		}
	}
	return out
}

// lookedAgain notes what was found of a page before it was looked at a second time.
func (g *gathering) lookedAgain(k evidence.Key) {
	g.mu.Lock()
	defer g.mu.Unlock()
	g.first[k] = slices.Clone(g.seen[k])
}

// twice tells whether something was looked at a second time: every journey that could be chance
// is, and a sample of the pages.
func (g *gathering) twice(k evidence.Key) bool {
	g.mu.Lock()
	defer g.mu.Unlock()
	_, page := g.pages[k]
	_, again := g.first[k]
	return !page || again
}

// everything is what was found, by what was looked at; also where nothing was found.
func (g *gathering) everything() map[evidence.Key][]evidence.Finding {
	g.mu.Lock()
	defer g.mu.Unlock()
	return maps.Clone(g.seen)
}

func (g *gathering) looked(p evidence.PageLook) {
	g.mu.Lock()
	defer g.mu.Unlock()
	g.pages[p.Key] = p
}

func (g *gathering) firstLook(k evidence.Key) evidence.PageLook {
	g.mu.Lock()
	defer g.mu.Unlock()
	return g.pages[k]
}

func (g *gathering) of(k evidence.Key) []evidence.Finding {
	g.mu.Lock()
	defer g.mu.Unlock()
	return slices.Clone(g.seen[k])
}

func (g *gathering) all() []evidence.Finding {
	g.mu.Lock()
	defer g.mu.Unlock()
	var out []evidence.Finding
	for _, f := range g.seen {
		out = append(out, f...)
	}
	evidence.Sort(out)
	return out
}

// take puts in what was found of one thing, replacing what was found of it before,
// and stores all findings so far when that changed something.
func (g *gathering) take(ctx context.Context, k evidence.Key, findings []evidence.Finding) error {
	g.mu.Lock()
	had := len(g.seen[k])
	g.seen[k] = findings
	g.mu.Unlock()
	if g.took != nil {
		g.took(k, findings)
	}
	if g.silent || had == 0 && len(findings) == 0 {
		return nil
	}
	all := g.all()
	g.inspection.Progress.update(ctx, func(p *store.RunProgress) {
		p.Broken, p.Unsure = 0, 0
		for _, f := range all {
			switch f.Severity {
			case evidence.Broken:
				p.Broken++
			case evidence.Unsure:
				p.Unsure++
			}
		}
	})
	g.mu.Lock()
	defer g.mu.Unlock()
	return g.inspection.Store.SaveFindings(ctx, g.inspection.Run, all)
}

// picture reads kept pictures for the comparison.
func (r *Inspection) picture(ctx context.Context) evidence.Pictures {
	return Pictures(ctx, r.Blobs)
}

// PictureGone says that a picture with which one is compared is no longer kept.
type PictureGone struct{}

func (*PictureGone) Error() string {
	return "a picture that it is compared with is no longer kept; take a new mark of the environment"
}

// Unwrap tells that it is a record that is not there.
func (*PictureGone) Unwrap() error { return store.ErrNotFound }

// Pictures reads kept pictures as pixels; *[PictureGone] when one is no longer kept.
func Pictures(ctx context.Context, blobs store.Blobs) evidence.Pictures {
	return func(sha string) (*image.NRGBA, error) {
		b, err := blobs.Get(ctx, sha)
		if errors.Is(err, store.ErrNotFound) {
			return nil, &PictureGone{}
		}
		if err != nil {
			return nil, err
		}
		return visual.Decode(b.Bytes)
	}
}
