package changes_test

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"tidemarker/internal/act"
	"tidemarker/internal/changes"
	"tidemarker/internal/core/calendar"
	"tidemarker/internal/core/evidence"
	"tidemarker/internal/core/release"
	"tidemarker/internal/core/settings"
	"tidemarker/internal/core/site"
	"tidemarker/internal/store"
)

var (
	marin = changes.By{Who: "marin"}               // a maintainer, who makes the changes here
	vera  = changes.By{Who: "vera", Decides: true} // an approver
)

// noon is what time it is in these tests as long as nothing else is said: a Wednesday.
var noon = time.Date(2026, 11, 25, 12, 0, 0, 0, time.UTC)

// checked is a change that staging has and that was checked there, found clear.
func (b *bench) checked(edits settings.Values) store.Change {
	b.Helper()
	c := b.begin("Compact", edits)
	b.check(c)
	return b.change(c.ID)
}

// check puts a change on staging as a try does, and says that its check was clear.
func (b *bench) check(c store.Change) {
	b.Helper()
	ctx := b.Context()
	_, err := b.ReadNow(ctx, b.site)
	require.NoError(b, err)
	envs, err := b.Store.EnvironmentsByRole(ctx, b.site)
	require.NoError(b, err)
	base, err := b.Store.Revision(ctx, b.site, c.Base)
	require.NoError(b, err)
	values := base.With(c.Edits.V)
	target, err := b.Store.SaveRevision(ctx, b.site, values)
	require.NoError(b, err)
	run, err := b.Store.NewRun(ctx, store.Run{SiteID: b.site, EnvironmentID: envs.Staging.ID, ChangeID: &c.ID, Kind: release.TryRun, Target: target, RequestedBy: "marin"})
	require.NoError(b, err)
	_, err = b.Store.BeginRun(ctx, run)
	require.NoError(b, err)
	if envs.Staging.Fingerprint != target {
		layer, err := b.Acts.Layer(envs.Staging)
		require.NoError(b, err)
		o := b.Acts.Apply(ctx, act.Intent{Environment: envs.Staging, Layer: layer, Values: values, Fingerprint: target, Kind: release.ActTry, Run: &run, Change: &c.ID, Base: c.Base, Who: "marin"})
		require.True(b, release.Take(o, func() bool { return true }, func(error) bool { return false }, func(error) bool { return false }))
	}
	require.NoError(b, b.Store.EndRun(ctx, store.Run{ID: run, Verdict: evidence.VerdictClear}, release.RunFinished))
	_, err = b.Store.MoveChange(ctx, c.ID, c.State, release.Checked, "Checked.")
	require.NoError(b, err)
}

func (b *bench) approval(change int64) store.Approval {
	b.Helper()
	a, err := b.Store.ApprovalOf(b.Context(), change)
	require.NoError(b, err)
	return a
}

// promotions are the runs that put a change on production, the latest first.
func (b *bench) promotions(change int64) (out []store.Run) {
	b.Helper()
	runs, err := b.Store.ChangeRuns(b.Context(), change)
	require.NoError(b, err)
	for _, r := range runs {
		if r.Kind == release.PromoteRun {
			out = append(out, r)
		}
	}
	return out
}

// at sets the clock.
func (b *bench) at(t time.Time) { b.Clock = func() time.Time { return t } }

// approvable is a bench with a change that could be promoted.
func approvable(t *testing.T) (*bench, store.Change) {
	b := newBench(t)
	b.at(noon)
	b.marked()
	return b, b.checked(settings.Values{"markup.compact": true})
}

func TestAMaintainerPromotesWhatAnApproverApproved(t *testing.T) {
	b, c := approvable(t)
	ctx := t.Context()
	require.ErrorContains(t, b.Promote(ctx, c.ID, marin, ""), "An approver has to approve it first")
	require.NoError(t, b.AskApproval(ctx, c.ID, marin, "Pages get a tenth lighter."))
	require.ErrorAs(t, b.AskApproval(ctx, c.ID, marin, "Again."), new(*changes.Conflict), "once")
	require.ErrorContains(t, b.Promote(ctx, c.ID, marin, ""), "has not approved it yet")
	require.ErrorContains(t, b.Approve(ctx, c.ID, marin, "", false), "Approvers decide")
	require.NoError(t, b.AskQuestion(ctx, c.ID, vera, "Did you look at the cart, @marin?"))
	assert.Equal(t, release.Questioned, b.approval(c.ID).State)
	require.NoError(t, b.Comment(ctx, store.Comment{SiteID: b.site, ChangeID: &c.ID, Text: "Yes, on both devices.", Who: "marin"}))
	assert.Equal(t, release.Asked, b.approval(c.ID).State, "it was answered")
	said, err := b.Store.CommentsOn(ctx, c.ID, 0)
	require.NoError(t, err)
	require.Len(t, said, 2)
	require.NoError(t, b.Approve(ctx, c.ID, vera, "Fine.", false))
	require.NoError(t, b.GoOut(ctx))
	assert.Empty(t, b.promotions(c.ID), "it was not to go by itself")
	require.NoError(t, b.Promote(ctx, c.ID, marin, ""))
	assert.Equal(t, release.Spent, b.approval(c.ID).State)
	require.Len(t, b.promotions(c.ID), 1)

	history, err := b.Store.History(ctx, b.site, 0, 50)
	require.NoError(t, err)
	var lines []string
	for _, e := range history {
		if e.Kind == "approval" {
			lines = append(lines, e.Who+": "+e.Text)
		}
	}
	assert.Equal(t, []string{"vera: Approved “Compact”. Fine.", "marin: Answered about “Compact”.", "vera: Asked something before deciding about “Compact”. Did you look at the cart, @marin?",
		"marin: Asked for an approval of “Compact”. Pages get a tenth lighter."}, lines)
}

func TestAnApproverWhoPromotesApprovesByThat(t *testing.T) {
	b, c := approvable(t)
	require.NoError(t, b.AskApproval(t.Context(), c.ID, marin, "Please."))
	require.NoError(t, b.Promote(t.Context(), c.ID, vera, ""))
	a := b.approval(c.ID)
	assert.Equal(t, []string{string(release.Spent), "vera"}, []string{string(a.State), a.DecidedBy})
	require.Len(t, b.promotions(c.ID), 1)
}

func TestAnApprovalEndsWhenTheChangeOrProductionMoves(t *testing.T) {
	b, c := approvable(t)
	ctx := t.Context()
	require.NoError(t, b.AskApproval(ctx, c.ID, marin, "Please."))
	require.NoError(t, b.Approve(ctx, c.ID, vera, "", true))
	b.at(noon) // the calendar is empty: it would go out with the next look at it, had it not been edited
	require.NoError(t, b.Edit(ctx, c.ID, c.Version, changes.Words{Title: "Compact"}, settings.Values{"markup.compact": true, "images.lazy": true}, "marin"))
	b.check(b.change(c.ID))
	require.ErrorContains(t, b.Promote(ctx, c.ID, marin, ""), "It was approved by vera, but not as it is now. The change was edited since.")
	require.NoError(t, b.GoOut(ctx))
	assert.Equal(t, release.Withdrawn, b.approval(c.ID).State)
	assert.Equal(t, "The change was edited since.", b.approval(c.ID).Reason)
	assert.Empty(t, b.promotions(c.ID))

	require.NoError(t, b.AskApproval(ctx, c.ID, marin, "As it is now."))
	now, etag := b.production.Layer.Settings()
	_, ok := b.production.Layer.Replace(now.With(settings.Values{"pages.lifetime": 1234.0}), etag)
	require.True(t, ok)
	production, err := b.ReadNow(ctx, b.site)
	require.NoError(t, err)
	drifts, err := b.Store.OpenDrifts(ctx, b.site)
	require.NoError(t, err)
	_, err = b.Store.AcceptDrift(ctx, drifts[0].ID, production.Fingerprint, "vera", "meant")
	require.NoError(t, err)
	require.NoError(t, b.GoOut(ctx))
	assert.Equal(t, release.Withdrawn, b.approval(c.ID).State)
	assert.Equal(t, "Production has other settings since.", b.approval(c.ID).Reason)
}

func TestWhereSomebodyElseApprovesNobodyApprovesTheirOwn(t *testing.T) {
	b, c := approvable(t)
	ctx := t.Context()
	_, err := b.Store.ChangeTestPlan(ctx, b.site, "vera", func(s site.Site) (site.Site, string, error) {
		s.Promotion = &site.Promotion{ByAnother: true}
		return s, "Somebody else approves.", nil
	})
	require.NoError(t, err)
	own := changes.By{Who: "marin (token nightly)", Decides: true}
	require.ErrorContains(t, b.Promote(ctx, c.ID, own, ""), "On this site somebody else approves it")
	require.ErrorContains(t, b.Approve(ctx, c.ID, own, "", false), "You made this change")
	require.NoError(t, b.Edit(ctx, c.ID, c.Version, changes.Words{Title: "Compact"}, c.Edits.V, "vera"))
	require.NoError(t, b.Edit(ctx, c.ID, c.Version+1, changes.Words{Title: "Compact"}, c.Edits.V, "odon"))
	assert.Equal(t, []string{"marin", "odon", "vera"}, changes.Makers(b.change(c.ID)), "whoever edited it on the way has made it, too")
	require.ErrorContains(t, b.Promote(ctx, c.ID, vera, ""), "You made this change")
	require.NoError(t, b.AskApproval(ctx, c.ID, own, "Please."))
	require.NoError(t, b.Approve(ctx, c.ID, changes.By{Who: "iris", Decides: true}, "", false))
	require.NoError(t, b.Promote(ctx, c.ID, own, ""), "iris approved it")
}

func TestWhatIsRefusedOrTakenBackDoesNotGoOut(t *testing.T) {
	b, c := approvable(t)
	ctx := t.Context()
	require.ErrorAs(t, b.Refuse(ctx, c.ID, vera, "No."), new(*changes.Conflict), "nobody asked")
	require.NoError(t, b.AskApproval(ctx, c.ID, marin, "Please."))
	require.ErrorContains(t, b.Refuse(ctx, c.ID, vera, "  "), "say why")
	require.NoError(t, b.Refuse(ctx, c.ID, vera, "Not before Monday."))
	assert.Equal(t, release.Refused, b.approval(c.ID).State)
	require.NoError(t, b.AskApproval(ctx, c.ID, marin, "It is Monday."))
	require.NoError(t, b.Approve(ctx, c.ID, vera, "", true))
	require.ErrorAs(t, b.WithdrawApproval(ctx, c.ID, changes.By{Who: "odon"}), new(*changes.Conflict), "it is not odon's")
	require.NoError(t, b.WithdrawApproval(ctx, c.ID, marin))
	require.NoError(t, b.GoOut(ctx))
	assert.Empty(t, b.promotions(c.ID))
	require.ErrorContains(t, b.Promote(ctx, c.ID, marin, ""), "Ask for an approval")
}

var (
	saleWeek = calendar.Entry{Kind: calendar.Freeze, Title: "Sale week", Begins: "2026-11-25T08:00", Ends: "2026-11-30T08:00", Zone: "Europe/Vienna"}
	nights   = calendar.Entry{Kind: calendar.Window, Title: "Nights", Begins: "2026-11-23T22:00", Ends: "2026-11-24T05:00", Zone: "Europe/Vienna", Rule: "FREQ=DAILY"}
)

func TestWhatIsApprovedWaitsForTheWindowAndGoesOutByItself(t *testing.T) {
	b, c := approvable(t)
	ctx := t.Context()
	_, err := b.AddEntry(ctx, nil, nights, "vera")
	require.NoError(t, err)
	freeze, err := b.AddEntry(ctx, &b.site, saleWeek, "vera")
	require.NoError(t, err)
	require.ErrorContains(t, b.Promote(ctx, c.ID, vera, ""), "Frozen until Mon 30 Nov 2026, 08:00 CET: “Sale week”.")
	require.NoError(t, b.Approve(ctx, c.ID, vera, "", true), "who decides need not have been asked")
	for _, when := range []time.Time{noon, noon.AddDate(0, 0, 4), time.Date(2026, 11, 30, 12, 0, 0, 0, time.UTC)} {
		b.at(when)
		require.NoError(t, b.GoOut(ctx))
		require.Empty(t, b.promotions(c.ID), when)
	}
	assert.Equal(t, "Promotions go out in windows, and none is open. The next time to promote starts Mon 30 Nov 2026, 22:00 CET.", b.approval(c.ID).Waits)
	b.at(time.Date(2026, 11, 30, 21, 0, 1, 0, time.UTC))
	require.NoError(t, b.GoOut(ctx))
	require.NoError(t, b.GoOut(ctx), "once")
	require.Len(t, b.promotions(c.ID), 1)
	assert.Equal(t, "vera", b.promotions(c.ID)[0].RequestedBy)
	assert.Equal(t, release.Spent, b.approval(c.ID).State)
	team, err := b.Store.TeamHistory(ctx, 1)
	require.NoError(t, err)
	assert.Contains(t, team[0].Text, "Added the window “Nights”", "what is for all sites is told beside their histories, too")
	require.NoError(t, b.RemoveEntry(ctx, freeze, 1, "vera"))
	require.ErrorIs(t, b.RemoveEntry(ctx, freeze, 1, "vera"), store.ErrNotFound)
}

func TestAFreezeIsOverriddenLoudlyByWhoDecidesOnly(t *testing.T) {
	b, c := approvable(t)
	ctx := t.Context()
	_, err := b.AddEntry(ctx, nil, saleWeek, "vera")
	require.NoError(t, err)
	require.NoError(t, b.AskApproval(ctx, c.ID, marin, "Please."))
	require.NoError(t, b.Approve(ctx, c.ID, vera, "", false))
	require.ErrorContains(t, b.Promote(ctx, c.ID, marin, "It is urgent."), "Only who decides")
	require.NoError(t, b.Promote(ctx, c.ID, vera, "The cart is broken for phones."))
	require.Len(t, b.promotions(c.ID), 1)
	assert.Equal(t, "The cart is broken for phones.", b.promotions(c.ID)[0].Despite)
	history, err := b.Store.History(ctx, b.site, 0, 50)
	require.NoError(t, err)
	var loud []string
	for _, e := range history {
		if e.Kind == "despite" {
			loud = append(loud, e.Text)
		}
	}
	assert.Equal(t, []string{"Promoted “Compact” despite the calendar: The cart is broken for phones."}, loud)
}

func TestAnImportedCalendarReplacesWhatCameBefore(t *testing.T) {
	b := newBench(t)
	ctx := t.Context()
	line, err := calendar.Read(saleWeek, time.LoadLocation)
	require.NoError(t, err)
	line.UID = "sale@elsewhere"
	file, err := calendar.Write("x", []calendar.Line{line}, noon)
	require.NoError(t, err)
	added, replaced, err := b.ImportCalendar(ctx, &b.site, file, calendar.Window, "UTC", "vera")
	require.NoError(t, err)
	assert.Equal(t, []int{1, 0}, []int{added, replaced})
	added, replaced, err = b.ImportCalendar(ctx, &b.site, file, calendar.Window, "UTC", "vera")
	require.NoError(t, err)
	assert.Equal(t, []int{0, 1}, []int{added, replaced})
	all, err := b.Store.CalendarEntries(ctx, b.site)
	require.NoError(t, err)
	require.Len(t, all, 1)
	assert.Equal(t, calendar.Freeze, all[0].Kind, "the event says what it is")
	_, _, err = b.ImportCalendar(ctx, &b.site, []byte("<html>"), calendar.Window, "UTC", "vera")
	require.ErrorAs(t, err, new(*changes.NotRight))
}

// plan is a site's way through days of asking, approving, editing and freezing, as rapid draws them.
type plan struct {
	b      *bench
	change int64
	now    time.Time
	n      int
}

// Whatever people do in whatever order: nothing is promoted inside a freeze or outside the windows, unless an approver says why; no
// approval outlives its fingerprint; a maintainer promotes nothing that is not approved.
func TestNoOrderOfEventsPromotesWhatMayNotBe(t *testing.T) {
	b, c := approvable(t)
	rapid.Check(t, func(rt *rapid.T) {
		p := &plan{b, c.ID, noon, 0}
		rt.Repeat(p.actions())
		p.reset(rt)
	})
}

func (p *plan) actions() map[string]func(*rapid.T) {
	b := p.b
	step := func(do func(*rapid.T)) func(*rapid.T) {
		return func(t *rapid.T) {
			b.at(p.now)
			before := len(b.promotions(p.change))
			do(t)
			p.look(t, before)
		}
	}
	ctx := b.Context()
	return map[string]func(*rapid.T){
		"time goes by":      step(func(t *rapid.T) { p.now = p.now.Add(time.Duration(rapid.IntRange(1, 30).Draw(t, "hours")) * time.Hour) }),
		"asked":             step(func(*rapid.T) { _ = b.AskApproval(ctx, p.change, marin, "Please.") }),
		"approved":          step(func(t *rapid.T) { _ = b.Approve(ctx, p.change, vera, "", rapid.Bool().Draw(t, "goes")) }),
		"refused":           step(func(*rapid.T) { _ = b.Refuse(ctx, p.change, vera, "No.") }),
		"withdrawn":         step(func(*rapid.T) { _ = b.WithdrawApproval(ctx, p.change, marin) }),
		"followed up":       step(func(t *rapid.T) { require.NoError(t, b.GoOut(ctx)) }),
		"marin promotes":    step(func(*rapid.T) { _ = b.Promote(ctx, p.change, marin, "") }),
		"vera promotes":     step(func(*rapid.T) { _ = b.Promote(ctx, p.change, vera, "") }),
		"marin has a cause": step(func(*rapid.T) { _ = b.Promote(ctx, p.change, marin, "Because.") }),
		"frozen": step(func(t *rapid.T) {
			begins := p.now.Add(time.Duration(rapid.IntRange(-5, 20).Draw(t, "from")) * time.Hour)
			_, err := b.AddEntry(ctx, &b.site, calendar.Entry{Kind: rapid.SampledFrom([]calendar.Kind{calendar.Freeze, calendar.Window}).Draw(t, "kind"), Title: "x", Begins: begins.Format(calendar.Clock),
				Ends: begins.Add(time.Duration(rapid.IntRange(1, 40).Draw(t, "for")) * time.Hour).Format(calendar.Clock), Zone: "UTC"}, "vera")
			require.NoError(t, err)
		}),
		"edited and checked": step(func(t *rapid.T) {
			c := b.change(p.change)
			p.n++
			if b.Edit(ctx, c.ID, c.Version, changes.Words{Title: "Compact"}, settings.Values{"markup.compact": true, "pages.lifetime": float64(1000 + p.n%7)}, "marin") == nil {
				b.check(b.change(c.ID))
			}
		}),
	}
}

// look holds what just happened against the rules, and clears a promotion away that was begun.
func (p *plan) look(t *rapid.T, before int) {
	b, ctx := p.b, p.b.Context()
	runs := b.promotions(p.change)
	if len(runs) == before {
		return
	}
	require.Len(t, runs, before+1, "one promotion at a time")
	r := runs[0]
	lines, err := b.Store.Calendar(ctx, b.site)
	require.NoError(t, err)
	open := calendar.At(lines, p.now).Open()
	require.True(t, open, "%s promoted at %s although %s", r.RequestedBy, p.now, calendar.Why(lines, p.now))
	envs, err := b.Store.EnvironmentsByRole(ctx, b.site)
	require.NoError(t, err)
	if a, err := b.Store.ApprovalOf(ctx, p.change); r.RequestedBy == "marin" {
		require.NoError(t, err)
		require.Equal(t, []string{string(release.Spent), r.Target, envs.Production.Fingerprint, "vera"}, []string{string(a.State), a.Fingerprint, a.Production, a.DecidedBy})
	}
	require.NoError(t, b.Runner.Stop(ctx, r.ID)) // nobody has begun it: production keeps what it has
	require.Equal(t, release.Checked, b.change(p.change).State)
}

// reset makes the bench ready for another plan.
func (p *plan) reset(t *rapid.T) {
	ctx := p.b.Context()
	_ = p.b.WithdrawApproval(ctx, p.change, marin)
	rows, err := p.b.Store.CalendarEntries(ctx, p.b.site)
	require.NoError(t, err)
	for _, e := range rows {
		require.NoError(t, p.b.RemoveEntry(ctx, e.ID, e.Version, "vera"), fmt.Sprint(e.ID))
	}
}
