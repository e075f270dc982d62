package api

import (
	"context"
	"fmt"
	"image"
	"image/color"
	"image/png"
	"net/http"
	"slices"
	"strconv"

	"github.com/danielgtaylor/huma/v2"
	"github.com/go-chi/chi/v5"

	"tidemarker/internal/core/evidence"
	"tidemarker/internal/core/exclusion"
	"tidemarker/internal/core/site"
	"tidemarker/internal/core/visual"
	"tidemarker/internal/core/vitals"
	"tidemarker/internal/inspect"
	"tidemarker/internal/store"
)

// PageProof is what one look at a page showed, as far as a person needs it.
type PageProof struct {
	Run      int64                  `json:"run"`
	Picture  *evidence.Picture      `json:"picture"`
	Status   int                    `json:"status"`
	Served   string                 `json:"served"`
	Headers  map[string]string      `json:"headers"`
	Errors   []evidence.ScriptError `json:"errors"`
	Console  []string               `json:"console"`
	Requests []evidence.Request     `json:"requests"`
	Shift    float64                `json:"shift" doc:"Cumulative layout shift, no unit."`
	Shifts   []vitals.Shift         `json:"shifts"`
	Timing   evidence.Timing        `json:"timing"`
	Attempts int                    `json:"attempts"`
	Missing  string                 `json:"missing,omitempty"`
	LookMade
}

// LookMade is how a look was made.
type LookMade struct {
	Spent     evidence.Spent     `json:"spent" doc:"Where its time went, in milliseconds."`
	Earlier   []evidence.Attempt `json:"earlier,omitempty" doc:"Attempts that failed before it."`
	Noted     []string           `json:"noted,omitempty" doc:"What limits left out, and what the browser could not do."`
	Undecoded []string           `json:"undecoded,omitempty" doc:"Pictures that could not be decoded."`
}

// Proof is what a finding rests on.
type Proof struct {
	Finding    FindingView           `json:"finding"`
	Before     *PageProof            `json:"before" doc:"The mark's look."`
	Now        *PageProof            `json:"now" doc:"This run's look."`
	Again      *PageProof            `json:"again" doc:"This run's second look, when there was one."`
	Control    *PageProof            `json:"control" doc:"The look with the earlier settings, when there was one."`
	Regions    []visual.Region       `json:"regions"`
	Quiet      []visual.Region       `json:"quiet" doc:"Parts that may differ and were left out."`
	Steps      *evidence.JourneyLook `json:"steps" doc:"This run's run of the journey."`
	StepsWere  *evidence.JourneyLook `json:"stepsWere" doc:"The mark's run of the journey."`
	StepsThen  *evidence.JourneyLook `json:"stepsThen" doc:"The run of the journey with the earlier settings."`
	Probe      *evidence.Probe       `json:"probe"`
	Candidates []exclusion.Candidate `json:"candidates" doc:"What could be excluded, the likeliest first."`
}

// evidenceOf is everything kept that a finding rests on.
type evidenceOf struct {
	finding  store.Finding
	run      store.Run
	mark     store.Mark
	base     evidence.Baseline
	now      evidence.Look
	again    evidence.Look
	haveMark bool
}

func (s *Server) evidenceOf(ctx context.Context, findingID int64) (evidenceOf, error) {
	var e evidenceOf
	var err error
	if e.finding, err = s.Store.Finding(ctx, findingID); err != nil {
		return e, err
	}
	if e.run, err = s.Store.Run(ctx, e.finding.RunID); err != nil {
		return e, err
	}
	if err := goneSince(e.run); err != nil {
		return e, err
	}
	if e.run.MarkID != nil {
		if e.mark, err = s.Store.Mark(ctx, *e.run.MarkID); err != nil {
			return e, err
		}
		if e.base, err = s.Store.BaselineBefore(ctx, e.mark, e.run.ID); err != nil {
			return e, err
		}
		e.haveMark = true
	}
	if e.now, err = s.Store.Look(ctx, e.run.ID, max(1, e.finding.Document.V.Pass)); err != nil {
		return e, err
	}
	e.again, err = s.Store.Look(ctx, e.run.ID, 2)
	return e, err
}

func (s *Server) proof(ctx context.Context, findingID int64) (Proof, error) {
	e, err := s.evidenceOf(ctx, findingID)
	if err != nil {
		return Proof{}, err
	}
	f := e.finding
	doc := f.Document.V
	p := Proof{Finding: findingView(f), Regions: []visual.Region{}, Quiet: []visual.Region{}, Candidates: []exclusion.Candidate{}}
	key := evidence.Key{Page: doc.Page, Persona: doc.Persona, Device: doc.Device}
	now, before := pageOf(e.now, key), pageOf(e.base.Look, key)
	if doc.Control != nil && doc.Control.Pass > 0 {
		control, err := s.Store.Look(ctx, e.run.ID, doc.Control.Pass)
		if err != nil {
			return p, err
		}
		p.Control = pageProof(pageOf(control, key), e.run.ID)
		if doc.Journey != "" {
			p.StepsThen = journeyOf(control, doc)
		}
	}
	if doc.Journey == "" {
		p.Now, p.Again, p.Before = pageProof(now, e.run.ID), pageProof(pageOf(e.again, key), e.run.ID), pageProof(before, e.mark.RunID)
	}
	if now != nil && before != nil && doc.Journey == "" {
		res, err := s.difference(ctx, e, *before, *now)
		if err != nil {
			return p, err
		}
		p.Regions = res.Regions[:min(len(res.Regions), 40)]
		for _, r := range evidence.QuietRects(e.base, *now) {
			p.Quiet = append(p.Quiet, visual.Region{X: r.Min.X, Y: r.Min.Y, Width: r.Dx(), Height: r.Dy()})
		}
	}
	if doc.Journey != "" {
		p.Steps, p.StepsWere = journeyOf(e.now, doc), journeyOf(e.base.Look, doc)
	}
	for i, pr := range e.now.Probes {
		// The probe that the finding came of is the one it comes of again.
		if pr.Page == doc.Page && pr.Device == doc.Device && slices.ContainsFunc(evidence.CompareProbe(e.base, pr), func(f evidence.Finding) bool { return f.Fingerprint == doc.Fingerprint }) {
			p.Probe = &e.now.Probes[i]
		}
	}
	env, err := s.Store.Environment(ctx, e.run.EnvironmentID)
	if err == nil && env.Catalogue.V != nil && e.haveMark {
		p.Candidates = exclusion.Candidates(*env.Catalogue.V, s.between(ctx, e.run.SiteID, e.mark.Fingerprint, e.run.Target), doc,
			exclusion.Observed{Page: now, PageWas: before, Journey: p.Steps, JourneyWas: p.StepsWere})
	}
	return p, err
}

// addHost adds the host that was not asked to the environment that lacked it.
func (s *Server) addHost(ctx context.Context, findingID int64) (RunView, error) {
	f, err := s.Store.Finding(ctx, findingID)
	if err != nil {
		return RunView{}, err
	}
	host := f.Document.V.Host
	if host == "" {
		return RunView{}, huma.Error409Conflict("This finding is not about a host that was not asked.")
	}
	r, err := s.Store.Run(ctx, f.RunID)
	if err != nil {
		return RunView{}, err
	}
	env, err := s.Store.Environment(ctx, r.EnvironmentID)
	if err != nil {
		return RunView{}, err
	}
	_, err = s.Store.ChangeTestPlan(ctx, r.SiteID, who(ctx), func(doc site.Site) (site.Site, string, error) {
		doc, added := doc.WithHost(env.Name, host)
		if !added {
			return doc, "", nil
		}
		return doc, fmt.Sprintf("%s is one of the hosts of %s now: its pages ask for it (run %d).", host, env.Name, r.ID), doc.Complete()
	})
	if err != nil {
		return RunView{}, problem(err)
	}
	return s.runView(ctx, r.ID)
}

func pageOf(l evidence.Look, k evidence.Key) *evidence.PageLook {
	i := slices.IndexFunc(l.Pages, func(p evidence.PageLook) bool { return p.Key == k })
	if i < 0 {
		return nil
	}
	return &l.Pages[i]
}

func journeyOf(l evidence.Look, f evidence.Finding) *evidence.JourneyLook {
	i := slices.IndexFunc(l.Journeys, func(j evidence.JourneyLook) bool {
		return j.Journey == f.Journey && j.Persona == f.Persona && j.Device == f.Device
	})
	if i < 0 {
		return nil
	}
	return &l.Journeys[i]
}

func pageProof(p *evidence.PageLook, run int64) *PageProof {
	if p == nil {
		return nil
	}
	shift, _ := vitals.CumulativeLayoutShift(p.Shifts)
	return &PageProof{run, p.Picture, p.Status, string(p.Served), p.Headers, p.Errors, p.Console, p.Requests, shift, p.Shifts, p.Timing, p.Attempts, p.Missing, LookMade{p.Spent, p.Earlier, p.Noted, p.Undecoded}}
}

func (s *Server) difference(ctx context.Context, e evidenceOf, before, now evidence.PageLook) (visual.Result, error) {
	if before.Picture == nil || now.Picture == nil || before.Picture.SHA256 == now.Picture.SHA256 {
		return visual.Result{}, nil
	}
	pictures := inspect.Pictures(ctx, s.Runner.Tools.Blobs)
	a, err := pictures(before.Picture.SHA256)
	if err != nil {
		return visual.Result{}, err
	}
	b, err := pictures(now.Picture.SHA256)
	if err != nil {
		return visual.Result{}, err
	}
	return visual.Compare(a, b, visual.Options{MaskA: evidence.QuietRects(e.base, before), MaskB: evidence.QuietRects(e.base, now)}), nil
}

// differencePicture paints what differs between the two pictures of a finding.
func (s *Server) differencePicture(w http.ResponseWriter, r *http.Request) {
	id, err := strconv.ParseInt(chi.URLParam(r, "id"), 10, 64)
	if err != nil {
		http.Error(w, "A finding's number is wanted.", http.StatusBadRequest)
		return
	}
	img, err := s.paintDifference(r.Context(), id)
	if err != nil {
		http.Error(w, "There are no two pictures to compare.", http.StatusNotFound)
		return
	}
	w.Header().Set("Content-Type", "image/png")
	w.Header().Set("Cache-Control", "private, max-age=3600")
	_ = (&png.Encoder{CompressionLevel: png.BestSpeed}).Encode(w, img)
}

// thumbnailPicture shows where a finding is, small: the part of this run's picture around the region, framed.
func (s *Server) thumbnailPicture(w http.ResponseWriter, r *http.Request) {
	id, err := strconv.ParseInt(chi.URLParam(r, "id"), 10, 64)
	if err != nil {
		http.Error(w, "A finding's number is wanted.", http.StatusBadRequest)
		return
	}
	img, err := s.thumbnail(r.Context(), id)
	if err != nil {
		http.Error(w, "There is no picture of it.", http.StatusNotFound)
		return
	}
	w.Header().Set("Content-Type", "image/png")
	w.Header().Set("Cache-Control", "private, max-age=86400")
	_ = (&png.Encoder{CompressionLevel: png.BestSpeed}).Encode(w, img)
}

const thumbnailWidth, thumbnailHeight = 240, 150

func (s *Server) thumbnail(ctx context.Context, findingID int64) (image.Image, error) {
	f, err := s.Store.Finding(ctx, findingID)
	if err != nil {
		return nil, err
	}
	doc := f.Document.V
	if doc.Region == nil {
		return nil, store.ErrNotFound
	}
	look, err := s.Store.Look(ctx, f.RunID, max(1, doc.Pass))
	if err != nil {
		return nil, err
	}
	now := pageOf(look, evidence.Key{Page: doc.Page, Persona: doc.Persona, Device: doc.Device})
	if now == nil || now.Picture == nil {
		return nil, store.ErrNotFound
	}
	img, err := inspect.Pictures(ctx, s.Runner.Tools.Blobs)(now.Picture.SHA256)
	if err != nil {
		return nil, err
	}
	return visual.Thumbnail(img, doc.Region.Rect(), thumbnailWidth, thumbnailHeight, accent), nil
}

// accent marks changed pixels; it is told apart from grey by lightness, too.
var accent = color.NRGBA{0xb0, 0x1e, 0x5a, 0xff}

func (s *Server) paintDifference(ctx context.Context, findingID int64) (image.Image, error) {
	e, err := s.evidenceOf(ctx, findingID)
	if err != nil {
		return nil, err
	}
	doc := e.finding.Document.V
	key := evidence.Key{Page: doc.Page, Persona: doc.Persona, Device: doc.Device}
	now, before := pageOf(e.now, key), pageOf(e.base.Look, key)
	if now == nil || before == nil || now.Picture == nil || before.Picture == nil {
		return nil, store.ErrNotFound
	}
	res, err := s.difference(ctx, e, *before, *now)
	if err != nil {
		return nil, err
	}
	b, err := inspect.Pictures(ctx, s.Runner.Tools.Blobs)(now.Picture.SHA256)
	if err != nil {
		return nil, err
	}
	return visual.Draw(b, res, accent), nil
}
