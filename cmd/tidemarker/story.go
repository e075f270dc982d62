package main

import (
	"context"
	"fmt"
	"net/http"
	"time"
)

// story is the work that the demo shows, done through the API as people would: a
// maintainer, and an approver who decides.
type story struct{ maintainer, approver *client }

type storyChange struct {
	ID      int64          `json:"id"`
	Version int            `json:"version"`
	State   string         `json:"state"`
	Title   string         `json:"title"`
	Reason  string         `json:"reason"`
	Effect  string         `json:"effect"`
	Edits   map[string]any `json:"edits"`
	Runs    []struct {
		ID    int64  `json:"id"`
		State string `json:"state"`
	} `json:"runs"`
}

// tell does the work on a server whose people have the demo's password.
func tell(ctx context.Context, url string) error {
	maintainer, err := signedIn(ctx, url, "Marin", demoPassword)
	if err != nil {
		return err
	}
	approver, err := signedIn(ctx, url, "Vera", demoPassword)
	if err != nil {
		return err
	}
	return (&story{maintainer, approver}).tell(ctx)
}

// last is the latest run of the change, as far as it has been read.
func (c *storyChange) last() int64 {
	last := int64(0)
	for _, r := range c.Runs {
		last = max(last, r.ID)
	}
	return last
}

// tell takes marks, rolls a change out that settled on one site to the other, breaks staging with one change and goes back, breaks it with
// another, mends that by excluding one script and promotes it, leaves a third
// waiting and a fourth begun, steps up through the bundles on the other site, and proves that nobody is
// served what is not theirs.
func (s *story) tell(ctx context.Context) error {
	var list struct {
		Sites []struct {
			ID int64 `json:"id"`
		} `json:"sites"`
	}
	if err := s.maintainer.call(ctx, http.MethodGet, "/sites", nil, &list); err != nil {
		return err
	}
	site := list.Sites[0].ID
	for _, l := range list.Sites {
		if err := s.everywhere(ctx, l.ID, "marks"); err != nil {
			return err
		}
	}
	if err := s.explain(ctx, site); err != nil {
		return err
	}
	other := list.Sites[len(list.Sites)-1].ID
	if err := s.rollOut(ctx, site, other); err != nil {
		return fmt.Errorf("roll out: %w", err)
	}
	for _, step := range []struct {
		title, reason, effect string
		edits                 map[string]any
		acts                  []string
	}{
		{"Remove styles that no page uses", "The style sheet is large for what a page uses of it.", "First draw a little earlier.",
			map[string]any{"styles.dropUnused": true}, []string{"try", "rollback"}},
		{"Defer all scripts", "Scripts in the head hold up the first draw.", "First draw earlier on phones.",
			map[string]any{"scripts.defer": true, "scripts.compact": true, "styles.compact": true, "images.keyFirst": true, "fonts.early": true, "warm.every": 7200, "pages.notModified": true},
			[]string{"try", findCulprit, "try", measureIt, "promote", itStands}},
		{"Lazy pictures and compact markup", "Listings load eight pictures that most visitors never scroll to.", "Fewer bytes on listings.",
			map[string]any{"images.lazy": true, "markup.compact": true}, []string{"try", askApproval}},
	} {
		if err := s.change(ctx, site, step.title, step.reason, step.effect, step.edits, step.acts); err != nil {
			return fmt.Errorf("%s: %w", step.title, err)
		}
	}
	if err := s.change(ctx, site, "Fewer styles, frames on demand", "The map is loaded by everybody and looked at by few.", "Less to load on the contact page.",
		map[string]any{"styles.dropUnused": true, "frames.onDemand": true}, nil); err != nil {
		return err
	}
	if err := s.stepUp(ctx, other); err != nil {
		return fmt.Errorf("step up: %w", err)
	}
	if err := s.plan(ctx, other); err != nil {
		return fmt.Errorf("plan: %w", err)
	}
	return s.everywhere(ctx, site, "isolation-tests")
}

// rollOut promotes a change on one site, lets it settle, and takes it to another.
func (s *story) rollOut(ctx context.Context, site, other int64) error {
	const title = "Texts are sent compressed"
	change, err := s.settled(ctx, site, title)
	if err != nil {
		return err
	}
	var r struct {
		ID      int64
		State   string
		Why     string
		Members []struct {
			Stage    string
			Measured *struct{ FinishedAt *time.Time }
		}
	}
	terms := map[string]any{"title": title, "reason": "It did well on the shop.", "pace": "check", "measures": true, "sites": []map[string]any{{"site": other, "wave": 1}}}
	if err := s.maintainer.call(ctx, http.MethodPost, fmt.Sprintf("/changes/%d/rollouts", change), terms, &r); err != nil {
		return err
	}
	at := fmt.Sprintf("/rollouts/%d", r.ID)
	tried := func() (bool, error) {
		m := r.Members[0]
		if m.Stage == "not clear" {
			return false, fmt.Errorf("it is not clear on the other site's staging")
		}
		return m.Stage == "tried" && m.Measured != nil && m.Measured.FinishedAt != nil, nil
	}
	if err := s.until(ctx, at, &r, tried); err != nil {
		return err
	}
	if err := s.approver.call(ctx, http.MethodPost, at+"/go", map[string]any{}, nil); err != nil {
		return err
	}
	return s.until(ctx, at, &r, func() (bool, error) {
		if r.State == "stopped" {
			return false, fmt.Errorf("it stopped: %s", r.Why)
		}
		return r.State == "ended", nil
	})
}

// settled promotes a change of how texts are sent, and says that it stands.
func (s *story) settled(ctx context.Context, site int64, title string) (change int64, err error) {
	if err := s.change(ctx, site, title, "Pages, styles and scripts go over the line as they are.", "A third of the bytes.", map[string]any{"delivery.pack": "gzip"}, []string{"try", "promote"}); err != nil {
		return 0, err
	}
	return s.stands(ctx, site, "The texts are the same, whoever unpacks them.")
}

// stands says that the change stands that was promoted last on a site.
func (s *story) stands(ctx context.Context, site int64, why string) (change int64, err error) {
	var view struct {
		Changes []struct {
			ID    int64
			Title string
		}
	}
	if err := s.maintainer.call(ctx, http.MethodGet, fmt.Sprintf("/sites/%d", site), nil, &view); err != nil {
		return 0, err
	}
	at := fmt.Sprintf("/changes/%d", view.Changes[0].ID)
	var c struct {
		State string
		Watch struct {
			ID    int64
			State string
		}
	}
	if err := s.maintainer.call(ctx, http.MethodGet, at, nil, &c); err != nil {
		return 0, err
	}
	if err := s.approver.call(ctx, http.MethodPost, fmt.Sprintf("/watches/%d/stop", c.Watch.ID), map[string]any{"reason": why}, nil); err != nil {
		return 0, err
	}
	if err := s.until(ctx, at, &c, func() (bool, error) { return c.Watch.State != "watching", nil }); err != nil {
		return 0, err
	}
	if c.State != "settled" {
		if err := s.approver.call(ctx, http.MethodPost, at+"/settle", map[string]any{"reason": why}, nil); err != nil {
			return 0, err
		}
	}
	return view.Changes[0].ID, nil
}

// until reads something again and again until it is as it should be, or cannot become it any more.
func (s *story) until(ctx context.Context, at string, into any, is func() (bool, error)) error {
	tick := time.NewTicker(time.Second)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-tick.C:
		}
		if err := s.maintainer.call(ctx, http.MethodGet, at, nil, into); err != nil {
			return err
		}
		if done, err := is(); done || err != nil {
			return err
		}
	}
}

// plan says when something may go out to a site: in working hours, and not while everybody comes.
func (s *story) plan(ctx context.Context, site int64) error {
	for _, e := range []map[string]any{
		{"kind": "window", "title": "While somebody is there", "begins": "2026-11-23T09:00", "ends": "2026-11-23T17:00", "rule": "FREQ=WEEKLY;BYDAY=MO,TU,WE,TH,FR"},
		{"kind": "freeze", "title": "Shooting stars of August", "begins": "2026-08-08T00:00", "ends": "2026-08-16T00:00", "rule": "FREQ=YEARLY"},
		{"kind": "freeze", "title": "Year end, nights are sold out", "begins": "2026-12-18T17:00", "ends": "2027-01-04T09:00", "rule": "FREQ=YEARLY"},
	} {
		e["zone"] = "Europe/Vienna"
		if err := s.approver.call(ctx, http.MethodPost, fmt.Sprintf("/calendar/entries?site=%d", site), e, nil); err != nil {
			return err
		}
	}
	return nil
}

// ask asks for an approval, and has the approver ask back.
func (s *story) ask(ctx context.Context, change int64) error {
	at := fmt.Sprintf("/changes/%d", change)
	if err := s.maintainer.call(ctx, http.MethodPost, at+"/approval", map[string]any{"words": "Listings are a third lighter on phones, and nothing else moved."}, nil); err != nil {
		return err
	}
	if err := s.approver.call(ctx, http.MethodPost, at+"/approval/decision", map[string]any{"decision": "question", "reason": "Do the prices still come with the first pictures, @Marin?"}, nil); err != nil {
		return err
	}
	return s.maintainer.call(ctx, http.MethodPost, at+"/comments", map[string]any{"text": "They do: each look at /kits is clear, on both devices. Its pictures are in the run."}, nil)
}

// stepUp goes up through the bundles on a site.
func (s *story) stepUp(ctx context.Context, site int64) error {
	var c struct {
		ID     int64
		StepUp struct{ Phase, Waits string }
	}
	if err := s.maintainer.call(ctx, http.MethodPost, fmt.Sprintf("/sites/%d/step-ups", site), map[string]any{"window": map[string]string{"from": "", "to": "", "zone": ""}, "mostLooks": 0}, &c); err != nil {
		return err
	}
	return s.until(ctx, fmt.Sprintf("/changes/%d", c.ID), &c, func() (bool, error) { return c.StepUp.Phase == "over", nil })
}

// explain records why the shop excludes what it does, except for what nobody knows.
func (s *story) explain(ctx context.Context, site int64) error {
	for _, e := range []struct {
		key, pattern, reason, lookAgain string
		classes                         []string
	}{
		{"pages.never", "/cart", "A basket is one person's.", "", []string{"cart"}},
		{"pages.never", "/checkout", "Names, streets and form tokens that grow old.", "", []string{"checkout"}},
		{"pages.never", "/account", "Orders and addresses of whoever is signed in.", "", []string{"account"}},
		{"pages.never", "/library/members/", "Paid for; visitors see only the first lines.", "", []string{"membership"}},
		{"pages.neverWithCookies", "fern_member", "Whoever is signed in is greeted by name.", "", []string{}},
		{"pages.neverForRoles", "editor", "Editors see drafts and the bar with their tools.", "", []string{}},
		{"pages.ignoredParameters", "utm_*", "Campaign tags make no other page.", "", []string{}},
		{"pages.ownParameters", "kind", "The kind of kits that a listing shows.", "", []string{"listing"}},
		{"pages.ownParameters", "q", "What is searched for.", "", []string{"search"}},
		{"pages.freshOnPublish", "/library/", "Said by the editors: a correction has to show at once.", "2026-06-01", []string{"article"}},
	} {
		if err := s.maintainer.call(ctx, http.MethodPost, fmt.Sprintf("/sites/%d/exclusions", site),
			map[string]any{"key": e.key, "pattern": e.pattern, "reason": e.reason, "lookAgain": e.lookAgain, "classes": e.classes}, nil); err != nil {
			return fmt.Errorf("explain %s: %w", e.pattern, err)
		}
	}
	return nil
}

// everywhere takes marks, or makes proofs, on each environment of a site.
func (s *story) everywhere(ctx context.Context, site int64, what string) error {
	var view struct {
		Environments []struct {
			ID int64 `json:"id"`
		} `json:"environments"`
	}
	if err := s.maintainer.call(ctx, http.MethodGet, fmt.Sprintf("/sites/%d", site), nil, &view); err != nil {
		return err
	}
	for _, e := range view.Environments {
		var run struct {
			ID int64 `json:"id"`
		}
		if err := s.maintainer.call(ctx, http.MethodPost, fmt.Sprintf("/environments/%d/%s", e.ID, what), map[string]any{}, &run); err != nil {
			return err
		}
		if err := s.maintainer.await(ctx, run.ID); err != nil {
			return err
		}
	}
	return nil
}

func (s *story) change(ctx context.Context, site int64, title, reason, effect string, edits map[string]any, acts []string) error {
	var c storyChange
	if err := s.maintainer.call(ctx, http.MethodPost, fmt.Sprintf("/sites/%d/changes", site), map[string]any{"title": title, "reason": reason, "effect": effect}, &c); err != nil {
		return err
	}
	at := fmt.Sprintf("/changes/%d", c.ID)
	edit := map[string]any{"version": c.Version, "title": title, "reason": reason, "effect": effect, "edits": edits}
	if err := s.maintainer.call(ctx, http.MethodPut, at, edit, &c); err != nil {
		return err
	}
	for _, act := range acts {
		if act == measureIt {
			var run struct{ ID int64 }
			if err := s.maintainer.call(ctx, http.MethodPost, at+"/measure", map[string]any{"devices": []string{"phone"}, "repeat": true, "film": true, "rounds": 8}, &run); err != nil {
				return err
			}
			if err := s.maintainer.await(ctx, run.ID); err != nil {
				return err
			}
			continue
		}
		if act == itStands { // and the pictures that its watch would compare with are not recorded
			if _, err := s.stands(ctx, site, "It was measured, and looked at by hand."); err != nil {
				return err
			}
			continue
		}
		if act == askApproval {
			if err := s.ask(ctx, c.ID); err != nil {
				return err
			}
			continue
		}
		if act == findCulprit {
			if err := s.findCulprit(ctx, &c); err != nil {
				return err
			}
			continue
		}
		by := s.maintainer
		if act == "promote" {
			by = s.approver
		}
		if err := by.call(ctx, http.MethodPost, at+"/"+act, map[string]any{}, &c); err != nil {
			return err
		}
		for _, r := range c.Runs {
			if r.State != "done" && r.State != "stopped" && r.State != "failed" {
				if err := s.maintainer.await(ctx, r.ID); err != nil {
					return err
				}
			}
		}
	}
	return nil
}

// findCulprit is the act of searching for what in the change broke the last run, and of excluding
// what is to be excluded so that it may stay.
const findCulprit = "find-culprit"

// askApproval is the act of asking for an approval, and talking about it.
const askApproval = "ask"

// itStands is the act of saying that what was promoted stands.
const itStands = "stands"

// measureIt is the act of measuring what the change does to speed.
const measureIt = "measure"

func (s *story) findCulprit(ctx context.Context, c *storyChange) error {
	var run struct{ ID int64 }
	if err := s.maintainer.call(ctx, http.MethodPost, fmt.Sprintf("/runs/%d/find-culprit", c.last()), map[string]any{}, &run); err != nil {
		return err
	}
	if err := s.maintainer.await(ctx, run.ID); err != nil {
		return err
	}
	var view struct {
		Search struct {
			Exclusions []struct {
				Key      string
				Patterns []string
			}
		}
	}
	if err := s.maintainer.call(ctx, http.MethodGet, fmt.Sprintf("/runs/%d", run.ID), nil, &view); err != nil {
		return err
	}
	for _, e := range view.Search.Exclusions {
		var all []map[string]any
		for _, p := range e.Patterns {
			all = append(all, map[string]any{"key": e.Key, "pattern": p})
		}
		if err := s.maintainer.call(ctx, http.MethodPost, fmt.Sprintf("/changes/%d/exclusions", c.ID),
			map[string]any{"exclude": all, "reason": fmt.Sprintf("Found by culprit search %d.", run.ID)}, c); err != nil {
			return err
		}
	}
	return nil
}
