package store_test

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidemarker/internal/core/evidence"
	"tidemarker/internal/core/release"
	"tidemarker/internal/core/settings"
	"tidemarker/internal/core/site"
	"tidemarker/internal/store"
	"tidemarker/internal/testdb"
)

// past is a site of which runs ended so many days ago.
type past struct {
	*testing.T
	s    *store.Store
	site store.Site
	env  store.Environment
	fp   string
}

func newPast(t *testing.T, s *store.Store) *past {
	t.Helper()
	row, err := s.SaveSite(t.Context(), document("staging", "production"), false, "ada")
	require.NoError(t, err)
	envs, err := s.Environments(t.Context(), row.ID)
	require.NoError(t, err)
	fp, err := s.SaveRevision(t.Context(), row.ID, settings.Values{"a": true})
	require.NoError(t, err)
	return &past{t, s, row, envs[0], fp}
}

// ran is a run that ended so many days ago, with a look at a page as a visitor and one as a member.
func (p *past) ran(kind release.RunKind, verdict evidence.Verdict, daysAgo int, mark *int64) (run int64, picture, own string) {
	p.Helper()
	ctx := p.Context()
	run, err := p.s.NewRun(ctx, store.Run{SiteID: p.site.ID, EnvironmentID: p.env.ID, Kind: kind, Target: p.fp, RequestedBy: "ada", MarkID: mark})
	require.NoError(p, err)
	_, err = p.s.BeginRun(ctx, run)
	require.NoError(p, err)
	look := func(persona, mediaType, text string) string {
		sha, err := p.s.Put(ctx, mediaType, []byte(text))
		require.NoError(p, err)
		l := evidence.PageLook{Key: evidence.Key{Page: "/", Persona: persona, Device: "phone"}, Source: &evidence.Source{Document: sha}}
		require.NoError(p, p.s.SaveLook(ctx, run, 1, "page", l.Key, l))
		return sha
	}
	picture, own = look("visitor", "image/png", fmt.Sprint("picture of run ", run)), look("member", "text/html", fmt.Sprint("a member's page of run ", run))
	require.NoError(p, p.s.SaveFindings(ctx, run, []evidence.Finding{{Fingerprint: "f", Page: "/", Persona: "visitor", Device: "phone"}}))
	require.NoError(p, p.s.EndRun(ctx, store.Run{ID: run, Verdict: verdict}, release.RunFinished))
	_, err = p.s.Pool.Exec(ctx, `UPDATE runs SET finished_at = now() - make_interval(days => $2::int) WHERE id = $1`, run, daysAgo)
	require.NoError(p, err)
	return run, picture, own
}

func (p *past) mark(run int64) int64 {
	p.Helper()
	id, err := p.s.SaveMark(p.Context(), store.Mark{EnvironmentID: p.env.ID, RunID: run, Fingerprint: p.fp, Who: "ada"})
	require.NoError(p, err)
	return id
}

// aged makes all blobs older than what may still be on its way.
func (p *past) aged() {
	p.Helper()
	_, err := p.s.Pool.Exec(p.Context(), `UPDATE blobs SET kept_at = now() - interval '2 days'`)
	require.NoError(p, err)
}

func (p *past) has(sha string) bool {
	p.Helper()
	_, err := p.s.Get(p.Context(), sha)
	if err != nil {
		require.ErrorIs(p, err, store.ErrNotFound)
	}
	return err == nil
}

// gone tells whether a run's evidence was removed; what stays of it is asked for, too.
func (p *past) gone(run int64) bool {
	p.Helper()
	r, err := p.s.Run(p.Context(), run)
	require.NoError(p, err, "a run stays")
	found, err := p.s.Findings(p.Context(), run)
	require.NoError(p, err)
	assert.Len(p, found, 1, "its findings stay")
	rows, err := p.s.LookRows(p.Context(), run, 1)
	require.NoError(p, err)
	assert.Equal(p, r.EvidenceGone == nil, len(rows) > 0, "it says so when its looks are gone, and only then")
	return r.EvidenceGone != nil
}

// TestEvidenceIsKeptAsTheSiteSays lets years pass: what nobody needs any more goes, marks in use and what is compared with them
// stay, and a body of a persona's page goes first.
func TestEvidenceIsKeptAsTheSiteSays(t *testing.T) {
	s, _ := testdb.New(t)
	p := newPast(t, s)
	ctx := t.Context()
	superseded, supersededPicture, _ := p.ran(release.MarkRun, "clear", 400, nil)
	p.mark(superseded)
	needed, _, _ := p.ran(release.MarkRun, "clear", 399, nil)
	neededMark := p.mark(needed)
	broken, brokenPicture, brokenOwn := p.ran(release.CheckRun, "broken", 100, &neededMark)
	old, oldPicture, _ := p.ran(release.CheckRun, "clear", 31, nil)
	recent, recentPicture, recentOwn := p.ran(release.CheckRun, "clear", 13, nil)
	current, currentPicture, currentOwn := p.ran(release.MarkRun, "clear", 398, nil)
	p.mark(current)
	shared, err := s.Put(ctx, "image/png", []byte("of no look"))
	require.NoError(t, err)

	gone, err := s.RemoveExpired(ctx)
	require.NoError(t, err)
	assert.Equal(t, 2, gone.Runs)
	assert.Zero(t, gone.Blobs, "what was put in today may still be referred to")
	p.aged()
	gone, err = s.RemoveExpired(ctx)
	require.NoError(t, err)
	assert.Zero(t, gone.Runs, "nothing goes twice")
	assert.Positive(t, gone.Bytes)

	assert.True(t, p.gone(superseded))
	assert.False(t, p.has(supersededPicture))
	assert.True(t, p.gone(old), "clear, and older than 30 days")
	assert.False(t, p.has(oldPicture))
	assert.False(t, p.has(shared), "nothing refers to it")
	assert.False(t, p.gone(needed), "a run that is kept was compared with its mark")
	assert.False(t, p.gone(broken), "broken, and younger than 180 days")
	assert.True(t, p.has(brokenPicture))
	assert.False(t, p.has(brokenOwn), "the body of a member's page, older than 14 days")
	assert.False(t, p.gone(recent))
	assert.True(t, p.has(recentPicture))
	assert.True(t, p.has(recentOwn))
	assert.False(t, p.gone(current), "the mark in use, forever")
	assert.True(t, p.has(currentPicture))
	assert.True(t, p.has(currentOwn))
	marks, err := s.Marks(ctx, p.env.ID, 10)
	require.NoError(t, err)
	assert.Len(t, marks, 2, "nobody goes back to a mark that cannot be proven any more")

	doc := p.site.Document.V
	doc.Keep = &site.Keeping{Clear: 5, Others: 50}
	_, err = s.ChangeTestPlan(ctx, p.site.ID, "ada", func(now site.Site) (site.Site, string, error) { now.Keep = doc.Keep; return now, "keeps less", nil })
	require.NoError(t, err)
	_, err = s.RemoveExpired(ctx)
	require.NoError(t, err)
	assert.True(t, p.gone(recent), "as the site says now")
	assert.True(t, p.gone(broken))
	_, err = s.RemoveExpired(ctx)
	require.NoError(t, err)
	assert.True(t, p.gone(needed), "nothing is compared with its mark any more")
	size, err := s.SizeOf(ctx, p.site.ID)
	require.NoError(t, err)
	assert.Equal(t, store.Size{Runs: 6, Looks: 2, Blobs: 2, Bytes: size.Bytes, Events: 2}, size)
	assert.Positive(t, size.Bytes)
}

// TestARemovalThatIsCutOffGoesOn ends it at each row that it touches: what was removed is removed whole, and the next one does
// the rest.
func TestARemovalThatIsCutOffGoesOn(t *testing.T) {
	s, _ := testdb.New(t)
	p := newPast(t, s)
	var runs []int64
	for range 5 {
		run, _, _ := p.ran(release.CheckRun, "clear", 40, nil)
		runs = append(runs, run)
	}
	p.aged()
	sql := func(query string, args ...any) {
		t.Helper()
		_, err := s.Pool.Exec(t.Context(), query, args...)
		require.NoError(t, err)
	}
	sql(`CREATE SEQUENCE touched`)
	sql(`CREATE TABLE cut AS SELECT 0::bigint AS at`)
	sql(`CREATE FUNCTION cut() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN
		IF nextval('touched') = (SELECT at FROM cut) THEN RAISE EXCEPTION 'cut off'; END IF; RETURN coalesce(NEW, OLD); END $$`)
	for _, table := range []string{"looks", "loads", "blob_references", "runs", "blobs"} {
		sql(`CREATE TRIGGER cut BEFORE UPDATE OR DELETE ON ` + table + ` FOR EACH ROW EXECUTE FUNCTION cut()`)
	}
	var err error
	cut := 1
	for ; cut < 200; cut++ {
		sql(`SELECT setval('touched', 1, false)`)
		sql(`UPDATE cut SET at = $1`, cut)
		if _, err = s.RemoveExpired(t.Context()); err == nil {
			break
		}
		require.ErrorContains(t, err, "cut off")
		for _, run := range runs {
			p.gone(run) // it is whole, or gone and says so
		}
	}
	require.NoError(t, err)
	assert.Greater(t, cut, 5)
	for _, run := range runs {
		assert.True(t, p.gone(run))
	}
	size, err := s.SizeOf(t.Context(), p.site.ID)
	require.NoError(t, err)
	assert.Equal(t, store.Size{Runs: 5, Events: 1}, size)
	left := 0
	require.NoError(t, s.Pool.QueryRow(t.Context(), `SELECT count(*) FROM blobs`).Scan(&left))
	assert.Zero(t, left)
}
