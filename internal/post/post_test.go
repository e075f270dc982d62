package post_test

import (
	"fmt"
	"log/slog"
	"math/rand/v2"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidemarker/internal/core/notice"
	"tidemarker/internal/core/people"
	"tidemarker/internal/core/site"
	"tidemarker/internal/post"
	"tidemarker/internal/store"
	"tidemarker/internal/testdb"
)

func TestMain(m *testing.M) { testdb.Main(m) }

// bench is a desk with a mail server, a site, and people of each role.
type bench struct {
	testing.TB
	*post.Desk
	box  *mailbox
	site int64
	now  time.Time
	mu   sync.Mutex
	ids  map[string]int64
}

func newBench(t testing.TB) *bench {
	st, _ := testdb.New(t)
	b := &bench{TB: t, now: time.Now().UTC().Truncate(time.Millisecond), ids: map[string]int64{}}
	b.Desk = &post.Desk{Store: st, Log: slog.New(slog.DiscardHandler), Base: "https://marker.example.org", Clock: func() time.Time { b.mu.Lock(); defer b.mu.Unlock(); return b.now }}
	b.box, b.Mail = newMailbox(t)
	b.site = b.add("Fernhollow")
	for name, role := range map[string]people.Role{"Ada": people.Administrator, "Vera": people.Approver, "Marin": people.Maintainer, "Otto": people.Observer} {
		b.person(name, role)
	}
	return b
}

func (b *bench) add(name string) int64 {
	row, err := b.Store.SaveSite(b.Context(), site.Site{Name: name, Environments: []site.Environment{{Name: "production", URL: "http://127.0.0.1:9"}}, Pages: []site.Page{{Path: "/", Personas: []string{site.Visitor}, Devices: []string{site.Phone}}}}, false, "tester")
	require.NoError(b, err)
	return row.ID
}

func (b *bench) person(name string, role people.Role) {
	id, err := b.Store.AddPerson(b.Context(), name, "x", role)
	require.NoError(b, err)
	b.ids[name] = id
	require.NoError(b, b.Store.SaveReach(b.Context(), id, store.Reach{Mail: address(name), DailyAt: "08:00", Zone: "UTC"}))
}

func address(name string) string {
	return strings.ToLower(strings.ReplaceAll(name, " ", ".")) + "@example.org"
}

func (b *bench) pass(d time.Duration) {
	b.mu.Lock()
	b.now = b.now.Add(d)
	b.mu.Unlock()
}

// happens records that something happened, of which people are told. The database writes down when, by its own clock: that
// of the bench is never behind it, however slow the machine.
func (b *bench) happens(topic notice.Topic, text string, to ...string) {
	b.Helper()
	require.NoError(b, b.Store.Record(b.Context(), store.Event{SiteID: b.site, Kind: "change", Who: "Tide Marker", Topic: topic, For: to, Text: text}))
	b.mu.Lock()
	defer b.mu.Unlock()
	if now := time.Now().UTC().Truncate(time.Millisecond).Add(time.Millisecond); b.now.Before(now) {
		b.now = now
	}
}

// goOn lets several processes work at once.
func (b *bench) goOn() {
	b.Helper()
	var all sync.WaitGroup
	for range 3 {
		all.Go(func() {
			assert.NoError(b, b.HandOut(b.Context()))
			assert.NoError(b, b.SendMail(b.Context()))
			assert.NoError(b, b.Deliver(b.Context()))
		})
	}
	all.Wait()
}

func TestEachIsToldWhatConcernsThemInTheWayTheyChose(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	ctx := t.Context()
	require.NoError(t, b.Store.Choose(ctx, b.ids["Marin"], store.Choice{Topic: notice.Broken, How: notice.Daily}))
	require.NoError(t, b.Store.Choose(ctx, b.ids["Marin"], store.Choice{SiteID: &b.site, Topic: notice.Broken, How: notice.AtOnce}))
	require.NoError(t, b.Store.Choose(ctx, b.ids["Ada"], store.Choice{Topic: notice.Broken, How: notice.Never}))
	require.NoError(t, b.Store.Choose(ctx, b.ids["Vera"], store.Choice{Topic: notice.Broken, How: notice.Here}))
	b.happens(notice.Broken, "Checked production. Broken: buying does not work.")
	b.happens(notice.Asked, "Asked for an approval of “Lazy”.")
	b.happens(notice.Finished, "Tried on staging. Clear.", "Otto")
	require.NoError(t, b.Store.Record(ctx, store.Event{SiteID: b.site, Kind: "approval", Who: "Vera (token ci)", Topic: notice.Asked, Text: "Asked by herself."}))
	b.goOn()
	assert.Empty(t, b.box.letters, "it waits a little for what comes with it")
	b.pass(11 * time.Second)
	b.goOn()

	marin := b.box.to("marin@example.org")
	require.Len(t, marin, 1, "what is said of the site counts")
	assert.Equal(t, "Fernhollow: Checked production", marin[0].subject)
	assert.Contains(t, marin[0].text, "Broken: buying does not work.")
	assert.Contains(t, marin[0].text, "https://marker.example.org/sites/")
	assert.Contains(t, marin[0].html, "Broken: buying does not work.")
	vera := b.box.to("vera@example.org")
	require.Len(t, vera, 1)
	assert.NotContains(t, vera[0].text, "buying", "she reads that in the application")
	assert.NotContains(t, vera[0].text, "by herself", "nobody is told of what they did, by a token either")
	ada := b.box.to("ada@example.org")
	require.Len(t, ada, 1)
	assert.Contains(t, ada[0].subject, "2 notices")
	assert.NotContains(t, ada[0].text, "buying")
	assert.Empty(t, b.box.to("otto@example.org"), "that is for the application only")

	list, err := b.Store.NoticesOf(ctx, b.ids["Vera"], 0, true, 10)
	require.NoError(t, err)
	assert.Len(t, list, 2)
	n, err := b.Store.Unread(ctx, b.ids["Otto"])
	require.NoError(t, err)
	assert.Equal(t, 1, n)
	require.NoError(t, b.Store.ReadNotices(ctx, b.ids["Vera"], 0, list[0].ID))
	n, err = b.Store.Unread(ctx, b.ids["Vera"])
	require.NoError(t, err)
	assert.Equal(t, 1, n)
	n, err = b.Store.Unread(ctx, b.ids["Ada"])
	require.NoError(t, err)
	assert.Equal(t, 2, n, "of what she wants nothing of she is told nothing")
}

func TestTheMailOfTheDayBringsWhatWaits(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	b.now = time.Now().UTC().Truncate(24 * time.Hour).Add(36 * time.Hour) // tomorrow at noon: people were added today
	b.happens(notice.Settled, "“Lazy” is settled. 6 looks, all clear.")
	b.happens(notice.Outside, "The settings of production were changed outside Tide Marker: images.lazy.")
	b.goOn()
	first := len(b.box.to("marin@example.org"))
	b.pass(48 * time.Hour)
	b.goOn()
	b.goOn()
	got := b.box.to("marin@example.org")
	require.Len(t, got, 1, "before %d", first)
	assert.True(t, strings.HasPrefix(got[0].subject, "Today: Fernhollow: 2 notices"), got[0].subject)
}

func TestAStormIsOneMailToEach(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	for n := range 1000 {
		b.happens(notice.Broken, fmt.Sprintf("Finding %d. It does not work.", n))
	}
	for range 4 {
		b.pass(5 * time.Second)
		b.goOn()
	}
	for _, who := range []string{"Ada", "Vera", "Marin"} {
		got := b.box.to(address(who))
		require.Len(t, got, 1, who)
		assert.Contains(t, got[0].subject, "1000 notices")
		assert.Contains(t, got[0].text, "And 995 more: https://marker.example.org/notices")
	}
}

func TestAMailThatWasCutOffIsSentAgainAsTheSame(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	b.happens(notice.Mentioned, "Vera wrote: look, @Otto.", "Otto")
	ctx := t.Context()
	_, err := b.Store.HandOut(ctx, b.now)
	require.NoError(t, err)
	b.pass(time.Minute)
	made, err := b.Store.MakeMail(ctx, b.ids["Otto"], false, b.now)
	require.NoError(t, err)
	require.True(t, made)
	again, err := b.Store.MakeMail(ctx, b.ids["Otto"], false, b.now)
	require.NoError(t, err)
	assert.False(t, again, "what is in a mail is in no other")
	_, err = b.Store.TakeMail(ctx, b.now, 2*time.Minute) // and whoever took it was killed
	require.NoError(t, err)
	b.goOn()
	assert.Empty(t, b.box.to("otto@example.org"))
	b.pass(3 * time.Minute)
	b.goOn()
	b.goOn()
	require.Len(t, b.box.to("otto@example.org"), 1)
	assert.Regexp(t, `^<mail-\d+-\d+@marker\.example\.org>$`, b.box.letters[0].id, "receivers can tell that it is the same")
}

func TestANewAddressGetsNoMailOfWhatIsPast(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	ctx := t.Context()
	require.NoError(t, b.Store.SaveReach(ctx, b.ids["Marin"], store.Reach{DailyAt: "08:00", Zone: "UTC"}))
	b.happens(notice.Broken, "Broken before.")
	b.goOn()
	b.pass(time.Minute)
	b.goOn()
	require.NoError(t, b.Store.SaveReach(ctx, b.ids["Marin"], store.Reach{Mail: address("Marin"), DailyAt: "08:00", Zone: "UTC"}))
	b.happens(notice.Broken, "Broken since.")
	b.pass(time.Minute)
	b.goOn()
	b.pass(time.Minute)
	b.goOn()
	got := b.box.to("marin@example.org")
	require.Len(t, got, 1)
	assert.Contains(t, got[0].text, "Broken since.")
	assert.NotContains(t, got[0].text, "Broken before.")
	list, err := b.Store.NoticesOf(ctx, b.ids["Marin"], 0, false, 10)
	require.NoError(t, err)
	assert.Len(t, list, 2, "it is in the application all the same")
}

func TestAMailServerThatRefusesIsAskedAgain(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	b.box.refuse = true
	b.happens(notice.Mentioned, "Vera wrote: look.", "Otto")
	b.goOn()
	b.pass(11 * time.Second)
	b.goOn()
	mails, err := b.Store.MailsOf(t.Context(), b.ids["Otto"], 10)
	require.NoError(t, err)
	require.Len(t, mails, 1)
	assert.Equal(t, "to send", mails[0].State)
	assert.Contains(t, mails[0].Why, "451")
	b.box.mu.Lock()
	b.box.refuse = false
	b.box.mu.Unlock()
	b.pass(6 * time.Second)
	b.goOn()
	assert.Len(t, b.box.to("otto@example.org"), 1)
}

// What a watched site says is in titles and texts of findings.
func TestWhatASiteSaysChangesNoMail(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	b.happens(notice.Broken, "The page says “x\r\nBcc: everybody@example.org\r\n\r\n<script>alert(1)</script>”. And more.")
	b.goOn()
	b.pass(11 * time.Second)
	b.goOn()
	require.Len(t, b.box.to("marin@example.org"), 1)
	l := b.box.to("marin@example.org")[0]
	assert.Empty(t, b.box.to("everybody@example.org"))
	assert.NotContains(t, strings.ToLower(l.raw[:strings.Index(l.raw, "\r\n\r\n")]), "\nbcc:")
	assert.NotContains(t, l.html, "<script>")
	assert.Contains(t, l.html, "&lt;script&gt;")
}

// People, notices, the clock and processes that are killed, in any order: each notice is in one mail to each who asked for it.
func TestNoOrderOfEventsLosesOrDoublesANotice(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	r := rand.New(rand.NewPCG(28, 11))
	topics := []notice.Topic{notice.Broken, notice.GoingBack, notice.Unknown}
	n := 0
	for range 120 {
		switch r.IntN(6) {
		case 0, 1:
			for range r.IntN(5) + 1 {
				b.happens(topics[r.IntN(3)], fmt.Sprintf("Thing %d happened. Look.", n))
				n++
			}
		case 2:
			b.pass(time.Duration(r.IntN(400)) * time.Second)
		case 3:
			b.goOn()
		case 4: // somebody takes a mail and is killed
			_, _ = b.Store.TakeMail(t.Context(), b.now, 2*time.Minute)
		case 5:
			b.box.mu.Lock()
			b.box.refuse = r.IntN(3) == 0
			b.box.mu.Unlock()
		}
	}
	b.box.mu.Lock()
	b.box.refuse = false
	b.box.mu.Unlock()
	for range 12 { // what was refused often waits for hours
		b.goOn()
		b.pass(11 * time.Hour)
	}
	for _, who := range []string{"Ada", "Vera", "Marin"} {
		seen := map[string]bool{}
		told := 0
		for _, l := range b.box.to(address(who)) {
			assert.False(t, seen[l.id], "%s got %s twice", who, l.id)
			seen[l.id] = true
		}
		mails, err := b.Store.MailsOf(t.Context(), b.ids[who], 1000)
		require.NoError(t, err)
		for _, m := range mails {
			assert.Equal(t, "sent", m.State, m.Why)
			in, err := b.Store.NoticesIn(t.Context(), m.ID)
			require.NoError(t, err)
			assert.Len(t, in, m.Notices)
			told += len(in)
		}
		assert.Equal(t, n, told, "%s", who)
		assert.Len(t, seen, len(mails))
	}
}
